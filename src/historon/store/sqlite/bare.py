"""A ledger without its contents, which rest elsewhere under their digests; and a whole store made of both again."""

import sqlite3
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from contextlib import closing
from dataclasses import dataclass
from datetime import UTC, datetime
from pathlib import Path
from typing import Any, NamedTuple

from historon.base.errors import StoreError
from historon.store.encoding import Bundle
from historon.store.ledger.contents import Contents
from historon.store.ledger.memory import raise_changes
from historon.store.ledger.milliseconds import to_ms
from historon.store.ledger.tables import tables
from historon.store.ledger.versions import places_in
from historon.store.records import Approval, Part, Removal, StoredPart, Version, version_digest
from historon.store.sqlite.schema import migrate
from historon.store.sqlite.succession import check_same, check_successor
from historon.store.verification import Damage

__all__ = ["BareLedger", "Kept"]

DAMAGED_IN_COPY = "damaged in the copy that this store was made from"
_CONTENTS = ("content", "bundle", "block")
_STRANDS = "SELECT id, name, next FROM strand"
_DIGESTS = "SELECT strand, position, sha256 FROM kept"
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


@dataclass(frozen=True)
class _Digests:
    """See VersionDigests: of contents that lie under their digests, so that each is what its name says, or damaged."""

    by_source: Mapping[str, Mapping[int, bytes]]

    def of(self, source: str) -> Mapping[int, bytes]:
        return self.by_source.get(source, {})

    def hold(self, source: str, number: int) -> bool:
        return True


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
        *,
        whole: bool = True,
    ) -> "BareLedger":
        """Make one of the rows of a store's tables, as of one moment. `insert` writes them into a table of SQLite.

        StoreError where contents are missing or damaged, unless it need not be `whole`.
        """
        with closing(sqlite3.connect(file)) as made:
            made.execute("PRAGMA journal_mode = OFF")
            migrate(made, str(file))
            for table in tables():
                if table not in _CONTENTS:
                    insert(made, table, rows(table, tables()[table].names))
            made.execute(_KEPT)
            known = {place: (size, sha256) for place, size, sha256 in _known(rows, whole=whole)}
            made.executemany("INSERT INTO kept VALUES (?, ?, ?, ?)", _used(made, known, whole=whole))
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

    def contents_of(self, source: str, number: int) -> set[bytes]:
        """The digests of the contents of a version; empty where it is not there."""
        query = "SELECT parts FROM version WHERE source = (SELECT id FROM source WHERE name = ?) AND number = ?"
        with closing(sqlite3.connect(self.file)) as db:
            known = {(strand, position): sha256 for strand, position, sha256 in db.execute(_DIGESTS)}
            rows = db.execute(query, (source, number)).fetchall()
        return {known[place] for (parts,) in rows for place in places_in(parts) if place in known}

    def leave_out(self, versions: Sequence[Version], removal: Removal) -> None:
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
            raise_changes(db, len(versions))
            left = {place for (parts,) in db.execute("SELECT parts FROM version") for place in places_in(parts)}
            unused = [place for place in db.execute("SELECT strand, position FROM kept") if place not in left]
            db.executemany("DELETE FROM kept WHERE strand = ? AND position = ?", unused)
            db.commit()

    def digests(self) -> dict[str, dict[int, bytes]]:
        """The digest of each version that it has all contents of, by source and number; see `version_digest`."""
        found: dict[str, dict[int, bytes]] = {}
        with closing(sqlite3.connect(self.file)) as db:
            known = {(strand, position): sha256 for strand, position, sha256 in db.execute(_DIGESTS)}
            names = dict(db.execute("SELECT id, name FROM strand"))
            rows = db.execute("SELECT name, number, parts FROM version JOIN source ON source.id = version.source")
            for source, number, parts in rows:
                places = places_in(parts)
                if all(place in known for place in places):
                    stored = [StoredPart(names[place[0]], 0, known[place], place) for place in places]
                    found.setdefault(source, {})[number] = version_digest(stored)
        return found

    def check_follows(self, before: "BareLedger", place: str, approve: Approval | None = None) -> None:
        """RefusedError where this one may not take the place of the one before; see `check_successor`, `check_same`."""
        ours, theirs = _Digests(self.digests()), _Digests(before.digests())
        with closing(sqlite3.connect(before.file)) as db:
            db.execute("DROP TABLE IF EXISTS kept")  # as of no schema
            migrate(db, place)
        with closing(sqlite3.connect(self.file.absolute().as_uri(), uri=True)) as db:
            db.execute("ATTACH ? AS before", (f"{before.file.absolute().as_uri()}?mode=ro",))
            check_successor(db, place, approve=approve)
        check_same(place, sorted(theirs.by_source), ours, theirs)

    def fill(self, part_of: Callable[[str, Kept], Part]) -> list[Damage]:
        """Write the contents into it, so that it is a whole store's ledger again.

        `part_of` gives each under the name of its part, StoreError where it cannot; the file of a large one is closed
        then. Versions that are not whole are removed, on record, and returned.
        """
        contents = self.contents()
        with closing(sqlite3.connect(self.file)) as db:
            db.execute("DROP TABLE kept")
            migrate(db, str(self.file))
            written = Contents(db)
            strands = {strand: (name, following) for strand, name, following in db.execute(_STRANDS).fetchall()}
            db.execute("UPDATE strand SET stored = 0")
            there: set[tuple[int, int]] = set()
            why: dict[tuple[int, int], str] = {}
            for one in contents:
                name, _ = strands.get(one.place[0], ("", 0))
                try:
                    part = part_of(name, one)
                    if part.sha256 != one.sha256:
                        raise StoreError("it does not match its SHA-256")
                except StoreError as exc:
                    why[one.place] = exc.message
                    continue
                written.put_back(one.place, part, there)
                if part.spool is not None:
                    part.spool.close()
                there.add(one.place)
            ends = ((following, strand) for strand, (_, following) in strands.items())
            db.executemany("UPDATE strand SET next = ? WHERE id = ?", ends)
            lost = _without_broken(db, there, why, {strand: name for strand, (name, _) in strands.items()})
            db.commit()
        return lost


def _without_broken(
    db: sqlite3.Connection, there: set[tuple[int, int]], why: Mapping[tuple[int, int], str], names: Mapping[int, str]
) -> list[Damage]:
    """Remove the versions that are not whole, on record; their numbers are not given again."""
    lost, sources = [], dict(db.execute("SELECT id, name FROM source").fetchall())
    now = to_ms(datetime.now(UTC))
    for source, number, at, parts in db.execute("SELECT source, number, at, parts FROM version").fetchall():
        places = _places(parts)
        missing = next((place for place in places if place not in there), None)
        if places and missing is None and source in sources:
            continue
        problem = why.get(missing, "a content is missing") if missing else "its row is damaged"
        part = names.get(missing[0], "") if missing else ""
        lost.append(Damage(str(sources.get(source, f"source {source}")), number, part, problem))
        db.execute("DELETE FROM version WHERE source = ? AND number = ?", (source, number))
        db.execute(
            "INSERT OR REPLACE INTO removed (source, number, at, rule, gone) VALUES (?, ?, ?, ?, ?)",
            (source, number, at, DAMAGED_IN_COPY, now),
        )
    raise_changes(db, len(lost))
    good = "(SELECT max(number) FROM version AS v WHERE v.source = source.id AND v.state <> 2)"
    when = f"(SELECT at FROM version AS v WHERE v.source = source.id AND v.number = {good})"  # noqa: S608 (constants)
    db.execute(
        f"UPDATE source SET good = {good}, good_at = {when}, confirmed_at = {when} WHERE good IS NOT NULL AND "  # noqa: S608
        "NOT EXISTS (SELECT 1 FROM version AS v WHERE v.source = source.id AND v.number = source.good)"
    )
    return lost


def _places(parts: object) -> list[tuple[int, int]]:
    """The places of a version's parts; none where its row is damaged."""
    try:
        return places_in(parts)  # type: ignore[arg-type]
    except (ValueError, TypeError, IndexError):
        return []


def _known(rows: RowsOf, *, whole: bool) -> Iterator[tuple[tuple[int, int], int, bytes]]:
    """Where contents are, their sizes and digests; of those in bundles too."""
    for strand, position, size, sha256 in rows("content", ("strand", "position", "size", "sha256")):
        yield (strand, position), size, bytes(sha256)
    for strand, data in rows("bundle", ("strand", "data")):
        try:
            heads = list(Bundle(data).heads())
        except (ValueError, IndexError, TypeError) as exc:
            if not whole:
                continue
            raise StoreError(f"a bundle is damaged: {exc}", hint="rebuild the store from a copy") from exc
        yield from (((strand, position), size, sha256) for position, size, sha256 in heads)


def _used(
    made: sqlite3.Connection, known: Mapping[tuple[int, int], tuple[int, bytes]], *, whole: bool
) -> Iterator[tuple[Any, ...]]:
    """The contents that versions are made of. StoreError where one of them is not there, if it is to be whole."""
    seen: set[tuple[int, int]] = set()
    for source, number, parts in made.execute("SELECT source, number, parts FROM version").fetchall():
        for place in _places(parts) if not whole else places_in(parts):
            if place in seen:
                continue
            seen.add(place)
            if place not in known:
                if not whole:
                    continue
                hint = "historon verify shows all damage"
                raise StoreError(f"version {number} of source {source} needs a missing content", hint=hint)
            yield *place, *known[place]
