"""Contents at rest, each written as what changed against an earlier one, few of which have to be read for any.

The contents of one part of one source form a strand and have positions in it, from 0 on. Position n is written
against the one before it, save every sixteenth, which is written against `n & (n - 1)`, n with its lowest set bit
cleared: so no chain is longer than 15 and the set bits of n / 16, and what would be keyframes are small deltas
themselves. Every 1,024 positions a keyframe begins again: whole, or against the keyframe of another source's part of
the same name. Sixteen positions that are complete move into one bundle, where they are compressed together, and four
bundles into one of sixty-four.
"""

import hashlib
from collections.abc import Container, Iterable, Iterator, Mapping, Sequence

from historon.base.errors import StoreError
from historon.store.encoding import (
    CHAIN_BYTES,
    EPOCH,
    LONGEST_CHAIN,
    SPANS,
    Bundle,
    Encoding,
    Record,
    base_of,
    bundled,
    decode,
    encode,
    encode_whole,
    next_epoch,
    sketch,
)
from historon.store.ledger.blocks import Blocks
from historon.store.ledger.transactions import Database
from historon.store.records import Part

__all__ = ["Contents"]

_BUNDLE_BYTES = 2**18  # larger deltas gain nothing from being together
_SIBLINGS = 8  # how many other sources' keyframes are tried for a new one
_WORTH_IT = 0.85  # a sibling is taken when it makes the keyframe smaller than this; less, and it is none
_CACHE_BYTES = 32 * 2**20
_BUNDLES_AT_HAND = 64  # strands whose bundles are kept taken apart
_HEAVY = 2**20  # bytes at rest from which on a strand gives back every single removed content at once
_DAMAGED = "rebuild the store from a copy"


_SIZES = "SELECT position, encoding, length(data), CASE WHEN encoding = ? THEN data END FROM content WHERE strand = ?"
_COLUMNS = "position, base_strand, base, size, encoding, sha256, data"


class Contents:
    """The tables `strand`, `content` and `bundle`; every call runs inside the caller's transaction."""

    def __init__(self, db: Database) -> None:
        self._db = db
        self._blocks = Blocks(db)
        self._cache: dict[tuple[int, int], bytes] = {}
        self._cached = 0
        self._bundles: dict[int, list[Bundle]] = {}

    def put(self, source: int, part: Part) -> tuple[int, int]:
        """Write a content at the end of the strand of this part of this source; returns the strand and its position."""
        find = "SELECT id, next FROM strand WHERE source = ? AND name = ?"
        found = self._db.execute(find, (source, part.name)).fetchone()
        if not found:
            self._db.execute(
                "INSERT INTO strand (id, source, name) VALUES ((SELECT coalesce(max(id), 0) + 1 FROM strand), ?, ?)",
                (source, part.name),
            )
            found = self._db.execute(find, (source, part.name)).fetchone()
        strand, position = found
        self._append(strand, position, part)
        return strand, position

    def put_back(self, place: tuple[int, int], part: Part, there: Container[tuple[int, int]]) -> None:
        """Write a content where it was, in the order of places; `there` are those that were written back before."""
        strand, position = place
        base = (strand, base_of(position, part.size))
        if part.spool is None and position % EPOCH and base not in there:
            encoding, data = encode_whole(part.content)
            self._insert(strand, Record(position, None, None, part.size, encoding, part.sha256, data))
        else:
            self._append(strand, position, part)

    def _append(self, strand: int, position: int, part: Part) -> None:
        base_strand, base, encoding, data = self._encoded(strand, position, part)
        self._insert(strand, Record(position, base_strand, base, part.size, encoding, part.sha256, data))
        if part.spool is None:
            self._remember((strand, position), part.content)

    def _encoded(self, strand: int, position: int, part: Part) -> tuple[int | None, int | None, Encoding, bytes]:
        """The strand and position that a content rests on, None for by itself; how it is written, and its bytes."""
        if part.spool is not None:
            return None, None, Encoding.BLOCKS, self._blocks.write(strand, part)
        if position % EPOCH:
            return self._delta(strand, position, part)
        return self._keyframe(strand, part)

    def _insert(self, strand: int, record: Record) -> None:
        position = record.position
        self._db.execute(
            f"INSERT INTO content (id, strand, {_COLUMNS}) "  # noqa: S608
            "VALUES ((SELECT coalesce(max(id), 0) + 1 FROM content), ?, ?, ?, ?, ?, ?, ?, ?)",
            (strand, *record),
        )
        self._db.execute("UPDATE strand SET next = ?, stored = stored + 1 WHERE id = ?", (position + 1, strand))
        for span in SPANS:
            if (position + 1) % span == 0:
                self._bundle(strand, position + 1 - span, position + 1)
                break

    def describe(self, strand: int, position: int) -> tuple[str, int, bytes]:
        """The part's name, and the content's size and SHA-256."""
        found = self._db.execute(
            "SELECT name, size, sha256 FROM content JOIN strand ON strand.id = strand "
            "WHERE strand = ? AND position = ?",
            (strand, position),
        ).fetchone()
        if found:
            if not isinstance(found[0], str) or not isinstance(found[2], bytes):
                raise TypeError("a name and a digest were expected")
            return found[0], found[1], found[2]
        record = self._record(strand, position)
        return self._name(strand), record.size, record.sha256

    def described(self, names: Mapping[int, str]) -> Mapping[tuple[int, int], tuple[str, int, bytes]]:
        """The same of all contents of these strands, by strand and position."""
        found = _Described()
        for strand, name in names.items():
            for row, data in self._db.execute("SELECT id, data FROM bundle WHERE strand = ?", (strand,)).fetchall():
                for position, size, sha256 in _opened(row, data).heads():
                    found[strand, position] = (name, size, sha256)
            loose = self._db.execute(
                "SELECT position, size, sha256 FROM content WHERE strand = ?", (strand,)
            ).fetchall()
            for position, size, sha256 in loose:
                if not isinstance(name, str) or not isinstance(sha256, bytes):
                    raise TypeError("a name and a digest were expected")
                found[strand, position] = (name, size, sha256)
        return found

    def read(self, strand: int, position: int) -> bytes:
        """The bytes of a content. StoreError when it, or one that it is written against, is damaged."""
        made = self._made(strand, position)
        return b"".join(self.pieces(strand, position)) if made is None else made

    def _made(self, strand: int, position: int) -> bytes | None:
        """The same, but None for a large one, which nothing is written against."""
        chain: list[tuple[tuple[int, int], Record]] = []
        at: tuple[int, int] | None = (strand, position)
        while at is not None and at not in self._cache:
            record = self._record(*at)
            if record.encoding == Encoding.BLOCKS:
                return None
            chain.append((at, record))
            if len(chain) > 2 * LONGEST_CHAIN:
                raise StoreError(f"content {strand}/{position} is damaged (reference loop)", hint=_DAMAGED)
            at = None if record.base is None else (record.base_strand or at[0], record.base)
        made = b"" if at is None else self._cache[at]
        for key, record in reversed(chain):
            made = _decoded(key, record, made)
        # The digest of the last content vouches for all that it was made from.
        if chain and hashlib.sha256(made).digest() != chain[0][1].sha256:
            raise StoreError(f"content {strand}/{position} is damaged: it does not match its SHA-256", hint=_DAMAGED)
        self._remember((strand, position), made)
        return made

    def pieces(self, strand: int, position: int) -> Iterator[bytes]:
        """The bytes of a content, of which a large one never stands in memory as a whole."""
        record = self._record(strand, position)
        if record.encoding != Encoding.BLOCKS:
            yield self.read(strand, position)
            return
        digest = hashlib.sha256()
        for piece in self._blocks.read(record.data):
            digest.update(piece)
            yield piece
        if digest.digest() != record.sha256:
            raise StoreError(f"content {strand}/{position} is damaged: it does not match its SHA-256", hint=_DAMAGED)

    def verify_record(self, strand: int, position: int) -> None:
        """Read a content, whatever its size. StoreError when it is damaged."""
        for _ in self.pieces(strand, position):
            pass

    @staticmethod
    def bundled(data: bytes) -> list[int]:
        """The positions of the contents in a bundle. StoreError when it is damaged."""
        try:
            return [record.position for record in Bundle(data)]
        except (ValueError, IndexError) as exc:
            raise StoreError(f"a bundle is damaged: {exc}", hint=_DAMAGED) from exc

    def thin(self, strand: int, kept: Sequence[int]) -> dict[int, int]:
        """Give back what a strand holds beyond the kept positions (ascending); returns where each of those is now.

        The kept contents are written again behind the old ones. That costs a little, so a light strand waits until an
        eighth of it is to go; the answer is empty then.
        """
        stored = self._db.execute("SELECT stored FROM strand WHERE id = ?", (strand,)).fetchone()[0]
        gone = stored - len(kept)
        if not gone or (gone * 8 < stored and self._weight(strand) < _HEAVY):
            return {}
        first = self._next_epoch(strand)
        name = self._name(strand)
        self._db.execute("UPDATE strand SET first = ?, next = ?, stored = 0 WHERE id = ?", (first, first, strand))
        moved = dict(zip(kept, range(first, first + len(kept)), strict=True))
        for old, new in moved.items():
            record = self._record(strand, old)
            if record.encoding == Encoding.BLOCKS:
                self._insert(strand, record._replace(position=new))
            else:
                self._append(strand, new, Part(name, self.read(strand, old)))
        self._db.execute("DELETE FROM bundle WHERE strand = ? AND first < ?", (strand, first))
        # A keyframe that leans on another is never leaned on itself; a whole one may be, and waits for `sweep`.
        self._db.execute(
            "DELETE FROM content WHERE strand = ? AND position < ? AND (position % ? <> 0 OR base_strand IS NOT NULL)",
            (strand, first, EPOCH),
        )
        self.forget()
        return moved

    def sweep(self, strands: Iterable[int]) -> None:
        """Remove the keyframes that thinning left because others leaned on them, where nobody does any more."""
        for strand in strands:
            self._db.execute(
                "DELETE FROM content WHERE strand = ? AND position < (SELECT first FROM strand WHERE id = ?) "
                "AND NOT EXISTS (SELECT 1 FROM content AS other "
                "WHERE other.base_strand = content.strand AND other.base = content.position)",
                (strand, strand),
            )
            self._blocks.sweep(strand)
        self.forget()

    def pack(self, after: int, count: int) -> int:
        """Write the next keyframes behind content `after` again, as small as can be; returns the last one's id.

        What is written as a short splice is small already. The answer is `after` when there are none left.
        """
        rows = self._db.execute(
            "SELECT id, strand, position, base_strand, base, length(data) FROM content "
            "WHERE id > ? AND position % ? = 0 AND encoding <> ? ORDER BY id LIMIT ?",
            (after, EPOCH, Encoding.BLOCKS, count),
        ).fetchall()
        for row, strand, position, base_strand, base, size in rows:
            made = self.read(strand, position)
            if base is None:
                form = encode_whole(made, thorough=True)
            else:
                form = encode(made, self.read(base_strand, base), thorough=True)
            if len(form[1]) < size:
                self._db.execute("UPDATE content SET encoding = ?, data = ? WHERE id = ?", (*form, row))
        return rows[-1][0] if rows else after

    def forget(self) -> None:
        """Empty the cache: after a rollback its positions may stand for something else."""
        self._cache.clear()
        self._bundles.clear()
        self._cached = 0

    def _name(self, strand: int) -> str:
        return str(self._db.execute("SELECT name FROM strand WHERE id = ?", (strand,)).fetchone()[0])

    def _delta(self, strand: int, position: int, part: Part) -> tuple[int | None, int | None, Encoding, bytes]:
        base = base_of(position, len(part.content))
        made = self._made(strand, base)
        if made is None:
            return (None, None, *encode_whole(part.content))
        return (None, base, *encode(part.content, made))

    def _keyframe(self, strand: int, part: Part) -> tuple[int | None, int | None, Encoding, bytes]:
        siblings = self._siblings(strand) if len(part.content) * 2 <= CHAIN_BYTES else []
        if siblings:
            sizes = {at: sketch(part.content, self.read(*at)) for at in siblings}
            near = min(sizes, key=lambda at: sizes[at])
            if sizes[near] < _WORTH_IT * sketch(part.content):
                return (*near, *encode(part.content, self.read(*near)))
        return (None, None, *encode_whole(part.content))

    def _siblings(self, strand: int) -> list[tuple[int, int]]:
        """The newest whole keyframes of other strands with the same part name."""
        return self._db.execute(
            "SELECT content.strand, max(position) FROM "
            "(SELECT id FROM strand WHERE name = (SELECT name FROM strand WHERE id = ?) AND id <> ? LIMIT 100) "
            "AS near JOIN content ON content.strand = near.id WHERE position % ? = 0 AND base IS NULL "
            "AND encoding <> ? GROUP BY content.strand LIMIT ?",
            (strand, strand, EPOCH, int(Encoding.BLOCKS), _SIBLINGS),
        ).fetchall()

    def _record(self, strand: int, position: int) -> Record:
        for bundle in self._bundles.get(strand, ()):
            record = bundle.get(position)
            if record:
                return record
        found = self._db.execute(
            f"SELECT {_COLUMNS} FROM content WHERE strand = ? AND position = ?",  # noqa: S608
            (strand, position),
        ).fetchone()
        record = Record(*found) if found else self._from_bundle(strand, position)
        if record is None:
            raise _missing(strand, position)
        return record

    def _from_bundle(self, strand: int, position: int) -> Record | None:
        """The record of a position that has moved into a bundle; the bundle is kept at hand."""
        found = self._db.execute(
            "SELECT id, data FROM bundle WHERE strand = ? AND first <= ? ORDER BY first DESC LIMIT 1",
            (strand, position),
        ).fetchone()
        if not found:
            return None
        bundle = _opened(*found)
        if len(self._bundles) > _BUNDLES_AT_HAND:
            self._bundles.clear()
        self._bundles.setdefault(strand, []).append(bundle)
        return bundle.get(position)

    def _bundle(self, strand: int, first: int, end: int) -> None:
        """Move these positions, loose and from smaller bundles, into one bundle; keyframes stay by themselves."""
        key = (strand, first, end)
        loose = f"FROM content WHERE strand = ? AND position >= ? AND position < ? AND position % {EPOCH} <> 0"
        loose += f" AND encoding <> {Encoding.BLOCKS:d}"
        smaller = "FROM bundle WHERE strand = ? AND first >= ? AND first < ?"
        records = [Record(*row) for row in self._db.execute(f"SELECT {_COLUMNS} {loose}", key)]
        for (data,) in self._db.execute(f"SELECT data {smaller}", key):
            records += Bundle(data)
        if records and sum(len(record.data) for record in records) <= _BUNDLE_BYTES:
            self._db.execute(f"DELETE {loose}", key)
            self._db.execute(f"DELETE {smaller}", key)
            data = bundled(sorted(records, key=lambda record: record.position))
            self._db.execute(
                "INSERT INTO bundle (id, strand, first, data) "
                "VALUES ((SELECT coalesce(max(id), 0) + 1 FROM bundle), ?, ?, ?)",
                (strand, first, data),
            )
            self._bundles.clear()

    def at_rest(self, strands: Iterable[int]) -> dict[tuple[int, int], int]:
        """How many bytes each content of these strands takes; of those in a bundle, their share of it."""
        found: dict[tuple[int, int], int] = {}
        for strand in strands:
            key = (strand,)
            for position, encoding, size, data in self._db.execute(_SIZES, (int(Encoding.BLOCKS), strand)):
                found[strand, position] = self._blocks.size(data) if encoding == Encoding.BLOCKS else size
            for (data,) in self._db.execute("SELECT data FROM bundle WHERE strand = ?", key).fetchall():
                records = list(Bundle(data))
                whole = sum(len(record.data) for record in records) or 1
                for record in records:
                    found[strand, record.position] = len(data) * len(record.data) // whole
        return found

    def _weight(self, strand: int) -> int:
        rows = self._db.execute(
            "SELECT coalesce(sum(length(data)), 0) FROM content WHERE strand = ? UNION ALL "
            "SELECT coalesce(sum(length(data)), 0) FROM bundle WHERE strand = ?",
            (strand, strand),
        )
        return sum(int(row[0]) for row in rows)

    def _next_epoch(self, strand: int) -> int:
        following = self._db.execute("SELECT next FROM strand WHERE id = ?", (strand,)).fetchone()[0]
        return next_epoch(int(following))

    def _remember(self, key: tuple[int, int], made: bytes) -> None:
        """Keep a content at hand: the next night's export is written against it."""
        if self._cached + len(made) > _CACHE_BYTES:
            self.forget()
        if len(made) <= _CACHE_BYTES and key not in self._cache:
            self._cache[key] = made
            self._cached += len(made)


class _Described(dict[tuple[int, int], tuple[str, int, bytes]]):
    """Names, sizes and digests by strand and position."""

    def __missing__(self, place: tuple[int, int]) -> tuple[str, int, bytes]:
        raise _missing(*place)


def _missing(strand: int, position: int) -> StoreError:
    hint = f"if another Historon pruned just now, run this again; if not: {_DAMAGED}"
    return StoreError(f"content {strand}/{position} is missing from the store", hint=hint)


def _opened(number: int, data: bytes) -> Bundle:
    """A bundle, taken apart. StoreError when it is damaged."""
    try:
        return Bundle(data)
    except (ValueError, IndexError) as exc:
        raise StoreError(f"bundle {number} is damaged: {exc}", hint=_DAMAGED) from exc


def _decoded(key: tuple[int, int], record: Record, base: bytes) -> bytes:
    try:
        return decode(Encoding(record.encoding), record.data, base, record.size)
    except ValueError as exc:
        raise StoreError(f"content {key[0]}/{key[1]} is damaged: {exc}", hint=_DAMAGED) from exc
