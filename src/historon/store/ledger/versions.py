"""The versions in the ledger's tables, whatever engine these are in: recording, reading, marking, removing."""

from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from datetime import datetime
from itertools import chain
from typing import Any

from historon.base.errors import StoreError
from historon.store.encoding import read_varints, varints
from historon.store.interface import Versions
from historon.store.ledger.contents import Contents
from historon.store.ledger.memory import MemoryTable, Names, number_of, raise_changes
from historon.store.ledger.milliseconds import from_ms, perhaps_from_ms, to_ms
from historon.store.ledger.signatures import Signatures
from historon.store.ledger.tables import OUTCOMES, STATES
from historon.store.ledger.transactions import Transactions, writing
from historon.store.noting import RETIRED
from historon.store.records import (
    RENAMED,
    Changed,
    Entry,
    Outcome,
    Part,
    Removal,
    Removed,
    SourceState,
    State,
    StoredPart,
    Version,
    version_digest,
)

__all__ = ["LedgerVersions", "places_in", "stored_parts"]

_VERSION = "SELECT number, at, state, size, added, removed, held, note FROM version WHERE source = ?"
_VOUCHED = "vouched"  # the topic under which the numbers of a source's vouched versions are remembered
_LATEST = """
    SELECT good, last_number, parts, trees FROM source
    LEFT JOIN version ON version.source = source.id AND version.number = source.good WHERE source.id = ?
"""
_HELD = """
    SELECT source.name, number, at, state, size, added, removed, held, version.note FROM version
    JOIN source ON source.id = version.source WHERE held IS NOT NULL ORDER BY source.name, number
"""
_CHANGED = "families IS NOT NULL"
_NOT_FIRST = "state = 0 AND number > (SELECT min(number) FROM version AS v WHERE v.source = version.source)"
_REMOVED = """
    SELECT name, number, at, sha256, rule, gone, round FROM removed JOIN source ON source.id = removed.source
"""
_STATE = "SELECT name, good, good_at, confirmed_at, outcome, outcome_at, note FROM source"


class LedgerVersions(Versions):
    """The versions in tables."""

    def __init__(self, transactions: Transactions) -> None:
        self.transactions = transactions
        self._db = db = transactions.db
        self._contents = Contents(db)
        self._signatures = Signatures(db)
        self._names = Names(db)
        self._memory = MemoryTable(db, self._names)

    def _take(self, source: int, entry: Entry) -> tuple[Outcome, int | None]:
        """Write an entry's export, if it is new; returns the outcome, and the version that the export is."""
        outcome, number = entry.outcome, None
        if entry.parts:
            known, last, places, trees = self._db.execute(_LATEST, (source,)).fetchone()
            suspect = entry.state is State.SUSPECT
            if suspect:
                known, places, trees = self._last_suspect(source, last)
            before = self._described(places, trees)
            if known and _contents(before) == _contents(entry.parts):
                number, outcome = known, outcome if suspect else Outcome.UNCHANGED
            else:
                number = last + 1
                self._insert(source, number, entry, before)
        self._summarise(source, number, outcome, entry)
        return outcome, number

    def _last_suspect(self, source: int, last: int) -> tuple[int | None, bytes | None, bytes | None]:
        """The newest version when it is a suspect one, against which a new suspect export is held, and its parts."""
        row = self._db.execute(
            "SELECT number, parts, trees FROM version WHERE source = ? AND number = ? AND state = ?",
            (source, last, STATES.index(State.SUSPECT)),
        ).fetchone()
        return row or (None, None, None)

    def _described(self, places: bytes | None, trees: bytes | None) -> list[StoredPart]:
        return stored_parts(places, trees, lambda place: self._contents.describe(*place))

    def _insert(self, source: int, number: int, entry: Entry, before: Sequence[StoredPart]) -> None:
        """Write a version; of many parts only those that differ from the ones before are written."""
        held = {(part.name, part.sha256): part.place for part in before}
        places, trees = [], []
        for part in sorted(entry.parts, key=lambda part: part.name):
            if isinstance(part, StoredPart):
                places.append(part.place)
            else:
                places.append(held.get((part.name, part.sha256)) or self._contents.put(source, part))
            trees += [places[-1][0]] if part.is_tree else []
        self._db.execute(
            "INSERT INTO version (source, number, at, state, size, added, removed, parts, note, families, trees) "
            "VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)",
            (
                source,
                number,
                to_ms(entry.made or entry.at),
                STATES.index(entry.state),
                sum(p.size for p in entry.parts),
                entry.added,
                entry.removed,
                varints(chain.from_iterable(places)),
                entry.note,
                entry.families or None,
                varints(trees) or None,
            ),
        )
        raise_changes(self._db, 1)
        if entry.state is not State.SUSPECT:
            self._signatures.add(source, number, entry.signature)

    def _summarise(self, source: int, number: int | None, outcome: Outcome, entry: Entry) -> None:
        """Bring the source's row up to date: every outcome but `skipped` speaks of its state."""
        if outcome is Outcome.SKIPPED:
            return
        self._db.execute(
            "UPDATE source SET outcome = ?, outcome_at = ?, note = ? WHERE id = ?",
            (OUTCOMES.index(outcome), to_ms(entry.at), entry.note, source),
        )
        if number is not None and outcome.good:
            made = to_ms(entry.made or entry.at)
            self._db.execute(
                "UPDATE source SET good_at = CASE WHEN good = ? THEN good_at ELSE ? END, good = ?, confirmed_at = ?, "
                "last_number = CASE WHEN last_number < ? THEN ? ELSE last_number END WHERE id = ?",
                (number, made, number, made, number, number, source),
            )
        elif number is not None:
            self._db.execute(
                "UPDATE source SET last_number = ? WHERE id = ? AND last_number < ?", (number, source, number)
            )

    @writing("vouch for a version")
    def vouch(
        self, version: Version, state: State, added: int, removed: int, families: bytes, signature: bytes | None
    ) -> None:
        source, number, at = self._names.known(version.source), version.number, to_ms(version.at)
        marked = self._db.execute(
            "UPDATE version SET state = ?, added = ?, removed = ?, families = ? WHERE source = ? AND number = ?",
            (STATES.index(state), added, removed, families or None, source, number),
        )
        raise_changes(self._db, marked.rowcount)
        newer = self._db.execute(
            "UPDATE source SET good = ?, good_at = ? WHERE id = ? AND coalesce(good, 0) < ?",
            (number, at, source, number),
        )
        if newer.rowcount:
            self._db.execute(
                "UPDATE source SET confirmed_at = ? WHERE id = ? AND coalesce(confirmed_at, 0) < ?", (at, source, at)
            )
        self._db.execute(
            "UPDATE source SET outcome = ?, note = NULL WHERE id = ? AND last_number = ? AND outcome = ?",
            (OUTCOMES.index(Outcome.CHANGED), source, number, OUTCOMES.index(Outcome.SUSPECT)),
        )
        self._signatures.add(source, number, signature)
        self._remember_vouches(version.source, {*self._vouches(version.source), number})

    def _vouches(self, source: str) -> list[int]:
        return [int(number) for number in (self._memory.recall(source, _VOUCHED) or "").split()]

    def _remember_vouches(self, source: str, numbers: set[int]) -> None:
        self._memory.remember(_VOUCHED, {source: " ".join(map(str, sorted(numbers)))})

    def held(self) -> list[Version]:
        with self.transactions.reading("read the holds"):
            return [_version(*row) for row in self._db.execute(_HELD).fetchall()]

    def vouched(self) -> list[Version]:
        with self.transactions.reading("read the vouches"):
            numbers = {source: text.split() for source, text in self._memory.recall_all(_VOUCHED).items()}
        found = [self.version(source, int(one)) for source in sorted(numbers) for one in numbers[source]]
        return [one for one in found if one is not None]

    @writing("doubt a version")
    def doubt(self, version: Version, why: str) -> None:
        source, number = self._names.known(version.source), version.number
        suspect = STATES.index(State.SUSPECT)
        vouches = self._vouches(version.source)
        if number in vouches:
            self._remember_vouches(version.source, {*vouches} - {number})
        marked = self._db.execute(
            "UPDATE version SET state = ?, families = NULL, note = ? WHERE source = ? AND number = ? AND state <> ?",
            (suspect, why, source, number, suspect),
        )
        raise_changes(self._db, marked.rowcount)
        before = self._db.execute(
            "SELECT number, at FROM version WHERE source = ? AND state <> ? ORDER BY number DESC LIMIT 1",
            (source, suspect),
        ).fetchone()
        good, at = before or (None, None)
        self._db.execute(
            "UPDATE source SET good = ?, good_at = ?, confirmed_at = ? WHERE id = ? AND good = ?",
            (good, at, at, source, number),
        )
        well = [OUTCOMES.index(one) for one in (Outcome.NEW, Outcome.CHANGED, Outcome.UNCHANGED)]
        self._db.execute(
            "UPDATE source SET outcome = ?, note = ? WHERE id = ? AND last_number = ? AND outcome IN (?, ?, ?)",
            (OUTCOMES.index(Outcome.SUSPECT), why, source, number, *well),
        )

    def states(self) -> dict[str, SourceState]:
        with self.transactions.reading("read the sources"):
            return {row[0]: _state(*row) for row in self._db.execute(_STATE)}

    def state(self, source: str) -> SourceState:
        with self.transactions.reading("read a source"):
            row = self._db.execute(f"{_STATE} WHERE name = ?", (source,)).fetchone()
            return _state(*row) if row else SourceState(source)

    def versions(self, source: str) -> list[Version]:
        with self.transactions.reading(f"read the versions of {source}"):
            rows = self._db.execute(f"{_VERSION} ORDER BY number", (self._names.known(source),)).fetchall()
            return [_version(source, *row) for row in rows]

    def last_good(self, source: str, most: int) -> list[Version]:
        with self.transactions.reading(f"read the versions of {source}"):
            since = max(self._vouches(source), default=0)
            rows = self._db.execute(
                f"{_VERSION} AND state <> ? AND number >= ? ORDER BY number DESC LIMIT ?",
                (self._names.known(source), STATES.index(State.SUSPECT), since, most),
            ).fetchall()
            return [_version(source, *row) for row in rows]

    def version(self, source: str, number: int) -> Version | None:
        with self.transactions.reading(f"read {source}@{number}"):
            row = self._db.execute(f"{_VERSION} AND number = ?", (self._names.known(source), number)).fetchone()
            return _version(source, *row) if row else None

    def parts(self, source: str, number: int) -> list[StoredPart]:
        with self.transactions.reading(f"read {source}@{number}"):
            key = (self._names.known(source), number)
            row = self._db.execute("SELECT parts, trees FROM version WHERE source = ? AND number = ?", key).fetchone()
            return sorted(self._described(*row or (None, None)), key=lambda part: part.name)

    def all_parts(self, source: str) -> dict[int, list[StoredPart]]:
        with self.transactions.reading(f"read the versions of {source}"):
            key = (self._names.known(source),)
            query = "SELECT number, parts, trees FROM version WHERE source = ? ORDER BY number"
            rows = self._db.execute(query, key).fetchall()
            strands = self._db.execute("SELECT id, name FROM strand WHERE source = ?", key).fetchall()
            known = self._contents.described(dict(strands))
            return {
                number: sorted(stored_parts(places, trees, known.__getitem__), key=lambda part: part.name)
                for number, places, trees in rows
            }

    def read(self, part: StoredPart) -> bytes:
        with self.transactions.reading(f"read {part.name}"):
            return self._contents.read(*part.place)

    def pieces(self, part: StoredPart) -> Iterator[bytes]:
        with self.transactions.reading(f"read {part.name}"):
            yield from self._contents.pieces(*part.place)

    def changed(self, since: datetime, until: datetime) -> list[Changed]:
        with self.transactions.reading("read what changed"):
            # Before that instant versions were recorded without families, and no index tells them.
            without_before = number_of(self._db, "families_after")
            which = _CHANGED if to_ms(since) > without_before else f"({_CHANGED} OR families IS NULL AND {_NOT_FIRST})"
            rows = self._db.execute(
                "SELECT name, number, at, added, removed, families "  # noqa: S608 (constants, no values)
                "FROM version JOIN source ON source.id = version.source "
                f"WHERE at >= ? AND at <= ? AND {which} ORDER BY at",
                (to_ms(since), to_ms(until)),
            ).fetchall()
            return [_changed(*row) for row in rows]

    def signature(self, source: str) -> tuple[int, bytes] | None:
        with self.transactions.reading("read a signature"):
            return self._signatures.of(self._names.known(source))

    def signed(self, source: str) -> bool:
        with self.transactions.reading("read a signature"):
            return self._signatures.known(self._names.known(source))

    def signatures(self) -> Iterator[tuple[str, int, bytes]]:
        with self.transactions.reading("read signatures"):
            yield from self._signatures.all()

    @writing("hold a version")
    def hold(self, source: str, number: int, reason: str | None) -> None:
        held = self._db.execute(
            "UPDATE version SET held = ? WHERE source = ? AND number = ?", (reason, self._names.known(source), number)
        )
        raise_changes(self._db, held.rowcount)

    @writing("remove versions")
    def remove(self, versions: Sequence[Version], removal: Removal) -> int:
        strands: dict[int, set[int]] = {}
        gone = 0
        for version in versions:
            source = self._names.known(version.source)
            self._check_removable(version.source, source, version.number)
            digest = self._digest(source, version.number)
            row = self._db.execute(
                "DELETE FROM version WHERE source = ? AND number = ? RETURNING parts", (source, version.number)
            ).fetchall()
            gone += len(row)
            self._db.execute(
                "INSERT INTO removed (source, number, at, sha256, rule, gone, round) VALUES (?, ?, ?, ?, ?, ?, ?) "
                "ON CONFLICT DO NOTHING",
                (
                    source,
                    version.number,
                    to_ms(version.at),
                    digest,
                    removal.rules.get(version.source),
                    to_ms(removal.gone),
                    removal.round,
                ),
            )
            strands.setdefault(source, set()).update(place[0] for (parts,) in row for place in places_in(parts))
        raise_changes(self._db, gone)
        for source, touched in strands.items():
            self._thin(source, touched)
        self._contents.sweep(set().union(*strands.values()))
        return gone

    def _digest(self, source: int, number: int) -> bytes | None:
        """See Removed; None where what the ledger says of the version is damaged."""
        key = (source, number)
        row = self._db.execute("SELECT parts, trees FROM version WHERE source = ? AND number = ?", key).fetchone()
        try:
            parts = self._described(*row or (None, None))
        except (StoreError, ValueError, TypeError, IndexError):
            return None
        return version_digest(parts)

    def weights(self, source: str) -> dict[int, int]:
        with self.transactions.reading(f"measure the versions of {source}"):
            known = self._names.known(source)
            rows = self._db.execute("SELECT number, parts FROM version WHERE source = ? ORDER BY number", (known,))
            versions = [(number, places_in(parts)) for number, parts in rows]
            at_rest = self._contents.at_rest(sorted({place[0] for _, places in versions for place in places}))
        found: dict[int, int] = {}
        for number, places in versions:
            found[number] = sum(at_rest.pop(place, 0) for place in places)  # each with the first that has it
        return found

    def removed(self, source: str) -> list[Removed]:
        with self.transactions.reading(f"read the removals of {source}"):
            rows = self._db.execute(f"{_REMOVED} WHERE source = ? ORDER BY number", (self._names.known(source),))
            return [_removed(*row) for row in rows]

    def removed_after(self, round_number: int) -> list[Removed]:
        with self.transactions.reading("read the removals"):
            rows = self._db.execute(f"{_REMOVED} WHERE round = ? ORDER BY name, number", (round_number,))
            return [_removed(*row) for row in rows]

    def _check_removable(self, name: str, source: int, number: int) -> None:
        key = (source, number)
        if self._db.execute("SELECT 1 FROM source WHERE id = ? AND good = ?", key).fetchone():
            raise StoreError(f"{name}@{number} is the last good version and stays")
        row = self._db.execute("SELECT held FROM version WHERE source = ? AND number = ?", key).fetchone()
        if row and row[0] is not None:
            raise StoreError(f"{name}@{number} is held and stays", hint=f"historon hold {name}@{number} --lift")

    def _thin(self, source: int, strands: set[int]) -> None:
        """Give back the contents that no version of the source points to any more, and follow those that moved."""
        rows = self._db.execute("SELECT number, parts FROM version WHERE source = ?", (source,)).fetchall()
        used: dict[int, set[int]] = {strand: set() for strand in strands}
        for _, parts in rows:
            for strand, position in places_in(parts):
                if strand in used:
                    used[strand].add(position)
        moved = {
            (strand, old): (strand, new)
            for strand, positions in used.items()
            for old, new in self._contents.thin(strand, sorted(positions)).items()
        }
        for number, parts in rows if moved else ():
            places = [moved.get(place, place) for place in places_in(parts)]
            self._db.execute(
                "UPDATE version SET parts = ? WHERE source = ? AND number = ?",
                (varints(chain.from_iterable(places)), source, number),
            )

    @writing("rename a source")
    def rename(self, old: str, new: str, at: datetime) -> int:
        source, other = self._names.known(old), self._names.known(new)
        if self._db.execute("SELECT 1 FROM version WHERE source = ?", (other,)).fetchone():
            raise StoreError(f"{new} already has versions; nothing was changed", hint=f"historon versions {new}")
        numbers = self._db.execute("SELECT number, at FROM version WHERE source = ?", (source,)).fetchall()
        digests = {number: self._digest(source, number) for number, _ in numbers}
        rename = "UPDATE source SET name = ? WHERE id = ?"
        self._db.execute(rename, ("", source))  # names are unique
        if other > 0:
            self._db.execute(rename, (old, other))
        self._db.execute(rename, (new, source))
        self._names.forget()
        gone = self._names.of(old)
        self._db.execute(
            "INSERT INTO removed (source, number, at, sha256, rule, gone, round) "
            "SELECT ?, number, at, sha256, rule, gone, round FROM removed WHERE source = ?",
            (gone, source),
        )
        self._db.executemany(
            "INSERT INTO removed (source, number, at, sha256, rule, gone, round) VALUES (?, ?, ?, ?, ?, ?, NULL)",
            [(gone, number, made, digests[number], f"{RENAMED}{new}", to_ms(at)) for number, made in numbers],
        )
        self._db.execute(
            "UPDATE source SET last_number = (SELECT last_number FROM source WHERE id = ?) WHERE id = ?", (source, gone)
        )
        raise_changes(self._db, len(numbers))
        self._memory.remember(RETIRED, {old: f"{RENAMED}{new}"})
        return len(numbers)

    def last_numbers(self) -> dict[str, int]:
        with self.transactions.reading("read the numbers of versions"):
            return dict(self._db.execute("SELECT name, last_number FROM source").fetchall())

    @writing("record used numbers")
    def raise_numbers(self, numbers: Mapping[str, int]) -> None:
        self._db.executemany(
            "UPDATE source SET last_number = ? WHERE id = ? AND last_number < ?",
            [(number, self._names.of(source), number) for source, number in numbers.items()],
        )


def stored_parts(
    places: bytes | None, trees: bytes | None, describe: Callable[[tuple[int, int]], tuple[str, int, bytes]]
) -> list[StoredPart]:
    """The parts that a version's row points to; `describe` gives the name, size and digest of each."""
    marked = set(read_varints(trees)[0]) if trees else ()
    return [StoredPart(*describe(place), place, is_tree=place[0] in marked) for place in places_in(places or b"")]


def places_in(parts: bytes) -> list[tuple[int, int]]:
    """The strands and positions of a version's parts."""
    _check_types(bytes, parts)
    numbers, _ = read_varints(parts)
    return list(zip(numbers[::2], numbers[1::2], strict=True))


def _state(
    name: str,
    good: int | None,
    good_at: int | None,
    confirmed_at: int | None,
    outcome: int | None,
    outcome_at: int | None,
    note: str | None,
) -> SourceState:
    _check_types(str, name)
    _check_types(int | None, good, good_at, confirmed_at)
    _check_types(str | None, note)
    return SourceState(
        name=name,
        good=good,
        good_at=perhaps_from_ms(good_at),
        confirmed_at=perhaps_from_ms(confirmed_at),
        outcome=None if outcome is None else Outcome(OUTCOMES[outcome]),
        outcome_at=perhaps_from_ms(outcome_at),
        note=note,
    )


def _version(
    source: str,
    number: int,
    at: int,
    state: int,
    size: int,
    added: int,
    removed: int,
    held: str | None,
    note: str | None,
) -> Version:
    _check_types(int, number, size, added, removed)
    _check_types(str | None, held, note)
    return Version(source, number, from_ms(at), State(STATES[state]), size, added, removed, held, note)


def _removed(
    name: str,
    number: int,
    at: int | None,
    sha256: bytes | None,
    rule: str | None,
    gone: int | None,
    round_number: int | None,
) -> Removed:
    _check_types(str, name)
    _check_types(int | None, number, at, gone, round_number)
    _check_types(bytes | None, sha256)
    return Removed(name, number, perhaps_from_ms(at), sha256, rule, perhaps_from_ms(gone), round_number)


def _changed(name: str, number: int, at: int, added: int, removed: int, families: bytes | None) -> Changed:
    _check_types(str, name)
    _check_types(int, number, added, removed)
    _check_types(bytes | None, families)
    return Changed(name, number, from_ms(at), added, removed, families or b"")


def _contents(parts: Iterable[Part | StoredPart]) -> set[tuple[str, bytes]]:
    """Which contents an export has, under which names."""
    return {(part.name, part.sha256) for part in parts}


def _check_types(wanted: Any, *values: object) -> None:
    """TypeError when a damaged row holds something else: SQLite lets any column hold anything."""
    if not all(isinstance(value, wanted) for value in values):
        raise TypeError(f"{wanted} was expected")
