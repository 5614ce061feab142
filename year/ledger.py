"""The store, read by its documented format alone (docs/store-format.md), as somebody without Historon would."""

import hashlib
import json
import sqlite3
from collections.abc import Iterator
from contextlib import closing, contextmanager
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from pathlib import Path

import zstandard

__all__ = ["Ledger", "SourceRow", "VersionRow", "Visit", "reading"]

_OUTCOMES = ("new", "changed", "unchanged", "suspect", "failed", "skipped")
_STATES = ("good", "noise", "suspect")


@dataclass(frozen=True)
class SourceRow:
    """What the ledger knows of a source."""

    good: int | None
    confirmed_at: datetime | None
    outcome: str | None


@dataclass(frozen=True)
class VersionRow:
    """A version without its contents."""

    number: int
    at: datetime
    state: str


@dataclass(frozen=True)
class Visit:
    """How a source fared in a round."""

    round: int
    trigger: str
    source: str
    outcome: str
    at: datetime
    version: int | None
    note: str


def _instant(milliseconds: int) -> datetime:
    return datetime(1970, 1, 1, tzinfo=UTC) + timedelta(milliseconds=milliseconds)


def _varints(data: bytes, count: int = -1, at: int = 0) -> tuple[list[int], int]:
    numbers: list[int] = []
    while at < len(data) and len(numbers) != count:
        number = shift = 0
        while True:
            byte = data[at]
            number |= (byte & 127) << shift
            at, shift = at + 1, shift + 7
            if byte < 128:
                break
        numbers.append(number)
    return numbers, at


@contextmanager
def reading(store: Path) -> Iterator["Ledger"]:
    """The ledger of a store, for the length of the block."""
    with closing(sqlite3.connect(f"file:{store / 'ledger.sqlite'}?mode=ro", uri=True)) as db:
        yield Ledger(db)


class Ledger:
    """What stands in it; nothing is cached but contents that were read."""

    def __init__(self, db: sqlite3.Connection) -> None:
        self._db = db
        self._read: dict[tuple[int, int], bytes] = {}

    def sources(self) -> dict[str, SourceRow]:
        """What it knows of each source."""
        rows = self._db.execute("SELECT name, good, confirmed_at, outcome FROM source")
        return {
            name: SourceRow(good, None if at is None else _instant(at), None if outcome is None else _OUTCOMES[outcome])
            for name, good, at, outcome in rows
        }

    def versions(self, source: str, after: int = 0) -> list[VersionRow]:
        """The versions of a source with a greater number."""
        query = "SELECT number, at, state FROM version JOIN source ON source.id = source WHERE name = ? AND number > ? ORDER BY 1"
        return [
            VersionRow(number, _instant(at), _STATES[state])
            for number, at, state in self._db.execute(query, (source, after))
        ]

    def visits(self, after: int) -> list[Visit]:
        """The visits of all rounds with a greater number, in their order."""
        found = []
        for number, trigger, record in self._db.execute(
            "SELECT number, trigger, record FROM round WHERE number > ? ORDER BY number", (after,)
        ).fetchall():
            found += [*self._recorded(number, trigger, record)] if record else [*self._open(number, trigger)]
        return sorted(found, key=lambda visit: visit.at)

    def _recorded(self, number: int, trigger: str, record: bytes) -> Iterator[Visit]:
        for one in json.loads(zstandard.ZstdDecompressor().decompress(record)):
            at = datetime.fromisoformat(one["at"])
            yield Visit(number, trigger, one["source"], one["outcome"], at, one.get("number"), one.get("note") or "")

    def _open(self, number: int, trigger: str) -> Iterator[Visit]:
        rows = self._db.execute(
            "SELECT name, outcome.outcome, at, number, outcome.note FROM outcome JOIN source ON source.id = source "
            "WHERE round = ?",
            (number,),
        )
        for name, outcome, at, version, note in rows:
            yield Visit(number, trigger, name, _OUTCOMES[outcome], _instant(at), version, note or "")

    def last_round(self) -> int:
        """The number of the last round."""
        return int(self._db.execute("SELECT coalesce(max(number), 0) FROM round").fetchone()[0])

    def removed(self) -> set[tuple[str, int]]:
        """Versions that were removed on record."""
        query = "SELECT name, number FROM removed JOIN source ON source.id = source"
        return {(name, number) for name, number in self._db.execute(query)}

    def removals(self) -> list[tuple[str, int, datetime, datetime]]:
        """Source, number and instant of versions that were removed, and when that was."""
        query = "SELECT name, number, at, gone FROM removed JOIN source ON source.id = source WHERE gone IS NOT NULL"
        return [
            (name, number, datetime.fromtimestamp(at / 1000, UTC), datetime.fromtimestamp(gone / 1000, UTC))
            for name, number, at, gone in self._db.execute(query)
        ]

    def parts(self, source: str, number: int) -> dict[str, bytes]:
        """The parts of a version, without those that Historon wrote itself. Raises AssertionError on damage."""
        query = "SELECT parts, trees FROM version JOIN source ON source.id = source WHERE name = ? AND number = ?"
        packed, trees = self._db.execute(query, (source, number)).fetchone()
        places, _ = _varints(packed)
        own = set(_varints(trees)[0]) if trees else set()
        return {
            self._db.execute("SELECT name FROM strand WHERE id = ?", (strand,)).fetchone()[0]: self._proven(strand, at)
            for strand, at in zip(places[::2], places[1::2], strict=True)
            if strand not in own
        }

    def _proven(self, strand: int, position: int) -> bytes:
        """A content that is as its digest says. What it is a delta on may be damaged where the delta takes nothing."""
        made = self._content(strand, position)
        if hashlib.sha256(made).digest() != self._record(strand, position)[3]:
            raise AssertionError(f"the content {position} of strand {strand} is damaged")
        return made

    def _content(self, strand: int, position: int) -> bytes:
        if (strand, position) not in self._read:
            self._read[strand, position] = self._made(strand, position)
        return self._read[strand, position]

    def _made(self, strand: int, position: int) -> bytes:
        base_strand, base_position, encoding, _, data = self._record(strand, position)
        base = b"" if base_position is None else self._content(base_strand or strand, base_position)
        if encoding == 3:
            query = "SELECT data FROM block WHERE id = ?"
            frames = (self._db.execute(query, (number,)).fetchone()[0] for number in _varints(data)[0])
            made = b"".join(zstandard.ZstdDecompressor().decompress(frame) for frame in frames)
        elif encoding == 0:
            made = zstandard.ZstdDecompressor().decompress(data)
        elif encoding == 1:
            prefix = zstandard.ZstdCompressionDict(base, dict_type=zstandard.DICT_TYPE_RAWCONTENT)
            made = zstandard.ZstdDecompressor(dict_data=prefix, max_window_size=2**31).decompress(data)
        else:
            made = _spliced(base, data)
        return made

    def _record(self, strand: int, position: int) -> tuple[int | None, int | None, int, bytes, bytes]:
        query = "SELECT base_strand, base, encoding, sha256, data FROM content WHERE strand = ? AND position = ?"
        found = self._db.execute(query, (strand, position)).fetchone()
        if found:
            return found[0], found[1], found[2], found[3], found[4]
        query = "SELECT data FROM bundle WHERE strand = ? AND first <= ? ORDER BY first DESC LIMIT 1"
        row = self._db.execute(query, (strand, position)).fetchone()
        packed = zstandard.ZstdDecompressor().decompress(row[0])
        (count,), at = _varints(packed, 1)
        heads = []
        for _ in range(count):
            head, at = _varints(packed, 5, at)  # position, base, size, encoding, length of the data
            heads.append(head)
        index = [head[0] for head in heads].index(position)
        digest = packed[at + 32 * index : at + 32 * index + 32]
        start = at + 32 * count + sum(head[4] for head in heads[:index])
        return None, heads[index][1], heads[index][3], digest, packed[start : start + heads[index][4]]


def _spliced(base: bytes, data: bytes) -> bytes:
    (count,), at = _varints(data, 1)
    numbers, at = _varints(data, 3 * count, at)
    made, copied_to = b"", 0
    for taken, jump, length in zip(numbers[::3], numbers[1::3], numbers[2::3], strict=True):
        made, at = made + data[at : at + taken], at + taken
        start = copied_to + (jump >> 1 ^ -(jump & 1))
        copied_to = start + length
        made += base[start:copied_to]
    return made
