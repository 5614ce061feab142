"""A ledger without its contents, which rest elsewhere under their digests; and a whole store made of both again."""

import sqlite3
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from contextlib import closing
from pathlib import Path
from typing import Any, NamedTuple

from historon.errors import StoreError
from historon.store.encoding import Bundle
from historon.store.interface import Part, Removal, Version
from historon.store.ledger.contents import Contents
from historon.store.ledger.milliseconds import to_ms
from historon.store.ledger.store import places_in
from historon.store.ledger.tables import TABLES
from historon.store.sqlite.copying import check_successor
from historon.store.sqlite.schema import migrate

__all__ = ["BareLedger", "Kept"]

_CONTENTS = ("content", "bundle", "block")
_STRANDS = "SELECT id, name, next FROM strand"
_KEPT = (
    "CREATE TABLE kept (strand INTEGER, position INTEGER, size INTEGER NOT NULL, sha256 BLOB NOT NULL, "
    "PRIMARY KEY (strand, position)) WITHOUT ROWID"
)


RowsOf = Callable[[str, Sequence[str]], Iterable[Sequence[Any]]]  # these columns of a table's rows


class Kept(NamedTuple):
    """A content that some version is made of: where the ledger says it is, how many bytes it has, and its SHA-256."""

    place: tuple[int, int]
    size: int
    sha256: bytes


class BareLedger:
    """All that a store holds but its contents, as a file of SQLite; which contents it is about stands in it too."""

    def __init__(self, file: Path) -> None:
        self.file = file

    @classmethod
    def make(
        cls,
        file: Path,
        rows: RowsOf,
        insert: Callable[[sqlite3.Connection, str, Iterable[Sequence[Any]]], None],
    ) -> "BareLedger":
        """Make one of the rows of a store's tables, as of one moment. `insert` writes them into a table of SQLite."""
        with closing(sqlite3.connect(file)) as made:
            made.execute("PRAGMA journal_mode = OFF")
            migrate(made, str(file))
            for table in TABLES:
                if table not in _CONTENTS:
                    insert(made, table, rows(table, TABLES[table]))
            made.execute(_KEPT)
            known = {place: (size, sha256) for place, size, sha256 in _known(rows)}
            made.executemany("INSERT INTO kept VALUES (?, ?, ?, ?)", _used(made, known))
            made.commit()
        return cls(file)

    def contents(self) -> list[Kept]:
        """The contents of its versions, in the order in which they are best written."""
        with closing(sqlite3.connect(self.file)) as db:
            rows = db.execute("SELECT strand, position, size, sha256 FROM kept ORDER BY strand, position")
            return [Kept((strand, position), size, sha256) for strand, position, size, sha256 in rows]

    def counts(self) -> tuple[int, int]:
        """How many sources and versions it knows."""
        with closing(sqlite3.connect(self.file)) as db:
            sources, versions = db.execute("SELECT count(DISTINCT source), count(*) FROM version").fetchone()
        return int(sources), int(versions)

    def where(self, place: tuple[int, int]) -> tuple[str, int, str]:
        """The source and the number of a version that a content is in, and the part that it is."""
        with closing(sqlite3.connect(self.file)) as db:
            source, part = db.execute("SELECT source, name FROM strand WHERE id = ?", place[:1]).fetchone()
            (name,) = db.execute("SELECT name FROM source WHERE id = ?", (source,)).fetchone()
            versions = db.execute("SELECT number, parts FROM version WHERE source = ? ORDER BY number", (source,))
            return name, next((number for number, parts in versions if place in places_in(parts)), 0), part

    def leave_out(self, versions: Iterable[Version], removal: Removal) -> None:
        """Make it one that does not hold these versions, as if they had been removed."""
        with closing(sqlite3.connect(self.file)) as db:
            for one in versions:
                (source,) = db.execute("SELECT id FROM source WHERE name = ?", (one.source,)).fetchone()
                key = (source, one.number)
                db.execute("DELETE FROM version WHERE source = ? AND number = ?", key)
                db.execute(
                    "INSERT OR REPLACE INTO removed (source, number, at, rule, gone) VALUES (?, ?, ?, ?, ?)",
                    (*key, to_ms(one.at), removal.rules.get(one.source), to_ms(removal.gone)),
                )
            left = {place for (parts,) in db.execute("SELECT parts FROM version") for place in places_in(parts)}
            unused = [place for place in db.execute("SELECT strand, position FROM kept") if place not in left]
            db.executemany("DELETE FROM kept WHERE strand = ? AND position = ?", unused)
            db.commit()

    def check_follows(self, before: "BareLedger", place: str) -> None:
        """StoreError where the one before is another store's, or knows what this one neither has nor removed."""
        with closing(sqlite3.connect(before.file)) as db:
            db.execute("DROP TABLE IF EXISTS kept")  # as of no schema
            migrate(db, place)
        with closing(sqlite3.connect(self.file.absolute().as_uri(), uri=True)) as db:
            db.execute("ATTACH ? AS before", (f"{before.file.absolute().as_uri()}?mode=ro",))
            check_successor(db, place)

    def fill(self, part_of: Callable[[str, Kept], Part]) -> None:
        """Write the contents into it, so that it is a whole store's ledger again.

        `part_of` gives each under the name of its part; the file of a large one is closed then. Raises what that does.
        """
        contents = self.contents()
        with closing(sqlite3.connect(self.file)) as db:
            db.execute("DROP TABLE kept")
            migrate(db, str(self.file))
            written = Contents(db)
            strands = {strand: (name, following) for strand, name, following in db.execute(_STRANDS).fetchall()}
            db.execute("UPDATE strand SET stored = 0")
            there: set[tuple[int, int]] = set()
            for one in contents:
                name, _ = strands[one.place[0]]
                part = part_of(name, one)
                written.put_back(one.place, part, there)
                if part.spool is not None:
                    part.spool.close()
                there.add(one.place)
            ends = ((following, strand) for strand, (_, following) in strands.items())
            db.executemany("UPDATE strand SET next = ? WHERE id = ?", ends)
            db.commit()


def _known(rows: RowsOf) -> Iterator[tuple[tuple[int, int], int, bytes]]:
    """Where contents are, their sizes and digests; of those in bundles too."""
    for strand, position, size, sha256 in rows("content", ("strand", "position", "size", "sha256")):
        yield (strand, position), size, bytes(sha256)
    for strand, data in rows("bundle", ("strand", "data")):
        try:
            heads = list(Bundle(data).heads())
        except (ValueError, IndexError) as exc:
            raise StoreError(f"a bundle is damaged: {exc}", hint="take the store back from a copy") from exc
        yield from (((strand, position), size, sha256) for position, size, sha256 in heads)


def _used(made: sqlite3.Connection, known: Mapping[tuple[int, int], tuple[int, bytes]]) -> Iterator[tuple[Any, ...]]:
    """The contents that versions are made of. StoreError where one of them is not there."""
    seen: set[tuple[int, int]] = set()
    for source, number, parts in made.execute("SELECT source, number, parts FROM version").fetchall():
        for place in places_in(parts):
            if place in seen:
                continue
            seen.add(place)
            if place not in known:
                hint = "historon verify tells what is damaged"
                raise StoreError(f"version {number} of source {source} is made of what is not there", hint=hint)
            yield *place, *known[place]
