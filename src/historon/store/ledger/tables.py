"""The ledger's tables, described once: in SQLite's words, which other engines translate.

docs/store-format.md explains every column.
"""

import sqlite3
from contextlib import closing
from dataclasses import dataclass
from functools import cache
from typing import NamedTuple

__all__ = ["OLDEST", "OUTCOMES", "SCHEMA", "STATES", "Column", "Table", "insertion", "of_schema", "script", "tables"]

# What numbers in them stand for.
OUTCOMES = ("new", "changed", "unchanged", "suspect", "failed", "skipped")
STATES = ("good", "noise", "suspect")

OLDEST = 4  # schemas before this one were never in a release
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
    # Whoever makes, marks or removes a version raises the change number, with every engine.
    """
    DROP TRIGGER version_made;
    DROP TRIGGER version_marked;
    DROP TRIGGER version_removed;
    """,
)
SCHEMA = OLDEST + len(_LATER)


class Column(NamedTuple):
    """A column, with the type and the default that it is declared with."""

    name: str
    kind: str
    needed: bool
    default: str | None


@dataclass(frozen=True)
class Table:
    """A table of the ledger. `key` is what its rows are known by, `unique` what else no two rows share."""

    columns: tuple[Column, ...]
    key: tuple[str, ...]
    unique: tuple[tuple[str, ...], ...]
    indexes: tuple[str, ...]  # the statements that make them

    @property
    def names(self) -> tuple[str, ...]:
        """Of all columns, in their order."""
        return tuple(one.name for one in self.columns)


@cache
def tables() -> dict[str, Table]:
    """The tables of this program's schema, by name."""
    with closing(of_schema(SCHEMA)) as db:
        rows = db.execute("SELECT name FROM sqlite_schema WHERE type = 'table' AND name NOT LIKE 'sqlite_%'")
        return {name: _table(db, name) for (name,) in rows.fetchall()}


def of_schema(number: int) -> sqlite3.Connection:
    """An empty ledger of a schema, in memory."""
    made = sqlite3.connect(":memory:")
    for each in range(OLDEST, number + 1):
        made.executescript(script(each))
    return made


def script(number: int) -> str:
    """What makes a ledger of this schema, from the one before it."""
    return _OLDEST_SCRIPT if number == OLDEST else _LATER[number - OLDEST - 1]


def _table(db: sqlite3.Connection, name: str) -> Table:
    described = db.execute('SELECT name, type, "notnull", dflt_value, pk FROM pragma_table_info(?)', (name,)).fetchall()
    unique = db.execute("SELECT name FROM pragma_index_list(?) WHERE origin = 'u'", (name,)).fetchall()
    made = db.execute("SELECT sql FROM sqlite_schema WHERE type = 'index' AND tbl_name = ? AND sql <> ''", (name,))
    return Table(
        tuple(Column(column, kind, bool(needed), default) for column, kind, needed, default, _ in described),
        tuple(column for column, *_, at in sorted(described, key=lambda one: int(one[-1])) if at),
        tuple(tuple(of for (of,) in db.execute("SELECT name FROM pragma_index_info(?)", one)) for one in unique),
        tuple(statement for (statement,) in made.fetchall()),
    )


def insertion(table: str) -> str:
    """The statement that inserts a whole row."""
    columns = tables()[table].names
    return f"INSERT INTO {table} ({', '.join(columns)}) VALUES ({', '.join('?' * len(columns))})"  # noqa: S608
