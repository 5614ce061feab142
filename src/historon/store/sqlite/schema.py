"""The ledger's tables, and how older ledgers become newer ones. docs/store-format.md explains every column."""

import sqlite3
from contextlib import closing

from historon.base.errors import StoreError

__all__ = ["APPLICATION_ID", "check_schema", "migrate"]

APPLICATION_ID = 0x48535452  # "HSTR", so that `file` can tell what this database is

_OLDEST = 4  # schemas before this one were never in a release
_OLDEST_SCRIPT = """
    CREATE TABLE meta (name TEXT PRIMARY KEY, value BLOB NOT NULL) WITHOUT ROWID;
    CREATE TABLE source (
        id INTEGER PRIMARY KEY, name TEXT NOT NULL UNIQUE, last_number INTEGER NOT NULL DEFAULT 0,
        good INTEGER, good_at INTEGER, confirmed_at INTEGER, outcome INTEGER, outcome_at INTEGER, note TEXT
    );
    CREATE TABLE round (
        number INTEGER PRIMARY KEY, began INTEGER NOT NULL, ended INTEGER, trigger TEXT NOT NULL,
        tally TEXT, record BLOB
    );
    CREATE TABLE outcome (
        round INTEGER NOT NULL, source INTEGER NOT NULL, outcome INTEGER NOT NULL, at INTEGER NOT NULL,
        took INTEGER NOT NULL, number INTEGER, note TEXT, PRIMARY KEY (round, source)
    ) WITHOUT ROWID;
    CREATE TABLE version (
        source INTEGER NOT NULL, number INTEGER NOT NULL, at INTEGER NOT NULL, state INTEGER NOT NULL,
        size INTEGER NOT NULL, added INTEGER NOT NULL, removed INTEGER NOT NULL, parts BLOB NOT NULL,
        held TEXT, note TEXT, PRIMARY KEY (source, number)
    ) WITHOUT ROWID;
    CREATE TABLE strand (
        id INTEGER PRIMARY KEY, source INTEGER NOT NULL, name TEXT NOT NULL,
        first INTEGER NOT NULL DEFAULT 0, next INTEGER NOT NULL DEFAULT 0, stored INTEGER NOT NULL DEFAULT 0,
        UNIQUE (source, name)
    );
    CREATE INDEX strand_by_name ON strand (name);
    CREATE TABLE content (
        id INTEGER PRIMARY KEY, strand INTEGER NOT NULL, position INTEGER NOT NULL, base_strand INTEGER, base INTEGER,
        size INTEGER NOT NULL, encoding INTEGER NOT NULL, sha256 BLOB NOT NULL, data BLOB NOT NULL,
        UNIQUE (strand, position)
    );
    CREATE INDEX content_by_base ON content (base_strand) WHERE base_strand IS NOT NULL;
    CREATE TABLE bundle (
        id INTEGER PRIMARY KEY, strand INTEGER NOT NULL, first INTEGER NOT NULL, data BLOB NOT NULL,
        UNIQUE (strand, first)
    );
    INSERT INTO meta VALUES ('fingerprint_key', randomblob(32));
    CREATE TABLE block (
        id INTEGER PRIMARY KEY, strand INTEGER NOT NULL, sha256 BLOB NOT NULL, data BLOB NOT NULL,
        UNIQUE (strand, sha256)
    );
    CREATE TABLE memory (
        source INTEGER NOT NULL, topic TEXT NOT NULL, text TEXT NOT NULL, PRIMARY KEY (source, topic)
    ) WITHOUT ROWID;
    ALTER TABLE version ADD COLUMN families BLOB;
    CREATE INDEX version_by_change ON version (at) WHERE families IS NOT NULL;
    CREATE TABLE signature (
        source INTEGER PRIMARY KEY, first INTEGER NOT NULL, bits BLOB NOT NULL, more BLOB NOT NULL
    );
    INSERT INTO meta SELECT 'families_after', coalesce(max(at), 0) FROM version;
    ALTER TABLE outcome ADD COLUMN steps BLOB;
    CREATE TABLE pending (
        id INTEGER PRIMARY KEY, channel TEXT NOT NULL, due INTEGER NOT NULL, round INTEGER, event BLOB NOT NULL
    );
    CREATE TABLE notice (
        number INTEGER PRIMARY KEY, channel TEXT NOT NULL, at INTEGER NOT NULL, fate INTEGER NOT NULL,
        tries INTEGER NOT NULL DEFAULT 0, next INTEGER, subject TEXT NOT NULL, letter BLOB NOT NULL, answer TEXT,
        remaining TEXT
    );
    CREATE INDEX notice_by_next ON notice (next) WHERE next IS NOT NULL;
"""

# One entry a schema version, never changed once released: a ledger is brought up to date by those it lacks.
# docs/store-format.md says what each is for; tests/data/stores has a ledger of each.
_LATER = (
    """
    INSERT INTO meta VALUES ('changes', 1);
    DELETE FROM memory WHERE topic LIKE 'copy %' OR text = '';
    UPDATE memory SET text = json_object(
        'resume', text, 'since', strftime('%Y-%m-%dT%H:%M:%SZ'), 'until', strftime('%Y-%m-%dT%H:%M:%SZ'), 'by', ''
    ) WHERE topic = 'paused';
    CREATE TRIGGER version_made AFTER INSERT ON version
        BEGIN UPDATE meta SET value = value + 1 WHERE name = 'changes'; END;
    CREATE TRIGGER version_marked AFTER UPDATE OF state, held ON version
        BEGIN UPDATE meta SET value = value + 1 WHERE name = 'changes'; END;
    CREATE TRIGGER version_removed AFTER DELETE ON version
        BEGIN UPDATE meta SET value = value + 1 WHERE name = 'changes'; END;
    """,
    # What an earlier ledger calls NAME.tree may as well have been sent by a device: no version of it is marked.
    """
    ALTER TABLE version ADD COLUMN trees BLOB;
    CREATE TABLE removed (source INTEGER NOT NULL, number INTEGER NOT NULL, PRIMARY KEY (source, number)) WITHOUT ROWID;
    """,
    # Of what was removed before, nothing but its number is known.
    """
    ALTER TABLE removed ADD COLUMN at INTEGER;
    ALTER TABLE removed ADD COLUMN sha256 BLOB;
    ALTER TABLE removed ADD COLUMN rule TEXT;
    ALTER TABLE removed ADD COLUMN gone INTEGER;
    ALTER TABLE removed ADD COLUMN round INTEGER;
    CREATE INDEX removed_by_round ON removed (round) WHERE round IS NOT NULL;
    """,
)
_SCHEMA = _OLDEST + len(_LATER)


def check_schema(db: sqlite3.Connection, place: str) -> None:
    """StoreError when a ledger that cannot be written has another schema than this program's."""
    owner, version = (db.execute(f"PRAGMA {name}").fetchone()[0] for name in ("application_id", "user_version"))
    if owner != APPLICATION_ID or version > _SCHEMA:
        migrate(db, place)  # tells what is wrong
    if version != _SCHEMA:
        raise StoreError(
            f"{place}: the ledger has schema {version}, and is read-only, so it cannot be upgraded to {_SCHEMA}",
            hint="copy the store's folder to a writable place, and open that",
        )


def migrate(db: sqlite3.Connection, place: str) -> None:
    """Bring the ledger to this program's schema; StoreError when that cannot be done."""
    version = db.execute("PRAGMA user_version").fetchone()[0]
    owner = db.execute("PRAGMA application_id").fetchone()[0]
    if owner != APPLICATION_ID and (version or db.execute("SELECT 1 FROM sqlite_schema").fetchone()):
        raise StoreError(f"{place}: this is a database of another program", hint="check the path of the store")
    if version > _SCHEMA:
        raise StoreError(
            f"{place}: the ledger has schema {version}, this Historon knows up to {_SCHEMA}",
            hint="a newer Historon wrote it: install that one here too",
        )
    if version == _SCHEMA:
        return
    if version and (version < _OLDEST or _shape(db) != _shape_of(version)):
        raise StoreError(
            f"{place}: the ledger is of a Historon that was never released; nothing was changed in it",
            hint="restore the versions that you need with that Historon, then make a new store here",
        )
    for number in range(version or _OLDEST - 1, _SCHEMA):
        # A savepoint would not cover the statements of a script: the script itself begins and ends the transaction.
        db.executescript(
            f"BEGIN IMMEDIATE; {_script(number + 1)} PRAGMA application_id = {APPLICATION_ID};"
            f"PRAGMA user_version = {number + 1}; COMMIT;"
        )


def _script(number: int) -> str:
    """What makes a ledger of this schema, from the one before it."""
    return _OLDEST_SCRIPT if number == _OLDEST else _LATER[number - _OLDEST - 1]


def _shape(db: sqlite3.Connection) -> set[tuple[str, str]]:
    """Every table with its columns."""
    return set(
        db.execute(
            "SELECT m.name, c.name FROM sqlite_schema AS m, pragma_table_info(m.name) AS c "
            "WHERE m.type = 'table' AND m.name NOT LIKE 'sqlite_%'"
        )
    )


def _shape_of(schema: int) -> set[tuple[str, str]]:
    with closing(sqlite3.connect(":memory:")) as db:
        for number in range(_OLDEST, schema + 1):
            db.executescript(_script(number))
        return _shape(db)
