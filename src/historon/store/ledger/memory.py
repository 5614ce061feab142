"""What is remembered of sources, each under a topic, by which numbers the ledger knows them, and what of itself."""

from collections.abc import Mapping

from historon.store.ledger.transactions import Database
from historon.store.records import ESTATE

__all__ = ["MemoryTable", "Names", "keep", "number_of", "raise_changes"]

_ESTATE, _NOBODY = 0, -1


class Names:
    """The ledger's numbers of sources; every call runs inside the caller's transaction."""

    def __init__(self, db: Database) -> None:
        self._db = db
        self._numbers: dict[str, int] = {}

    def known(self, source: str) -> int:
        """The number of a source; -1, which no row has, for one it never met, and 0 for the whole estate."""
        if source == ESTATE:
            return _ESTATE
        if source not in self._numbers:
            row = self._db.execute("SELECT id FROM source WHERE name = ?", (source,)).fetchone()
            if not row:
                return _NOBODY
            self._numbers[source] = int(row[0])
        return self._numbers[source]

    def of(self, source: str) -> int:
        """The number of a source, which is met now if it never was before."""
        known = self.known(source)
        if known != _NOBODY:
            return known
        made = self._db.execute(
            "INSERT INTO source (id, name) VALUES ((SELECT coalesce(max(id), 0) + 1 FROM source), ?) RETURNING id",
            (source,),
        )
        return int(made.fetchone()[0])

    def forget(self) -> None:
        """After a rollback a number may come to stand for another source."""
        self._numbers.clear()


class MemoryTable:
    """The table `memory`; every call runs inside the caller's transaction."""

    def __init__(self, db: Database, names: Names) -> None:
        self._db = db
        self._names = names

    def remember(self, topic: str, texts: Mapping[str, str]) -> None:
        """Remember these texts of these sources; an empty one forgets."""
        self._db.executemany(
            "INSERT INTO memory (source, topic, text) VALUES (?, ?, ?) "
            "ON CONFLICT (source, topic) DO UPDATE SET text = excluded.text",
            [(self._names.of(source), topic, text) for source, text in texts.items() if text],
        )
        self._db.executemany(
            "DELETE FROM memory WHERE source = ? AND topic = ?",
            [(self._names.known(source), topic) for source, text in texts.items() if not text],
        )

    def recall(self, source: str, topic: str) -> str | None:
        """What is remembered of a source."""
        key = (self._names.known(source), topic)
        row = self._db.execute("SELECT text FROM memory WHERE source = ? AND topic = ?", key).fetchone()
        return row[0] if row else None

    def recall_all(self, topic: str) -> dict[str, str]:
        """What is remembered of every source, by name."""
        query = "SELECT name, text FROM memory JOIN source ON id = source WHERE topic = ?"
        return dict(self._db.execute(query, (topic,)).fetchall())


def number_of(db: Database, name: str) -> int:
    """A number that the ledger keeps about itself; 0 where it keeps none."""
    row = db.execute("SELECT value FROM meta WHERE name = ?", (name,)).fetchone()
    return int(row[0]) if row else 0


def keep(db: Database, name: str, value: bytes) -> None:
    """Let the ledger keep a value about itself."""
    db.execute(
        "INSERT INTO meta (name, value) VALUES (?, ?) ON CONFLICT (name) DO UPDATE SET value = excluded.value",
        (name, value),
    )


def raise_changes(db: Database, versions: int) -> None:
    """Raise the change number, in the transaction that made, marked or removed so many versions."""
    if versions:
        keep(db, "changes", b"%d" % (number_of(db, "changes") + versions))
