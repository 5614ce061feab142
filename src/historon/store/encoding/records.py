"""Contents as they are written, each by itself or many in a bundle, where they are compressed together."""

from collections.abc import Iterator, Sequence
from itertools import accumulate, chain
from typing import NamedTuple

from historon.store.encoding.codec import pack, unpack
from historon.store.encoding.deltas import Encoding
from historon.store.encoding.numbers import read_varints, varints

__all__ = ["Bundle", "Record", "bundled"]

_LEVEL = 9
_DIGEST = 32  # bytes


class Record(NamedTuple):
    """One content as it is written; `base_strand` is set only where a keyframe leans on another strand's."""

    position: int
    base_strand: int | None
    base: int | None
    size: int
    encoding: int
    sha256: bytes
    data: bytes


def bundled(records: Sequence[Record]) -> bytes:
    """Numbers, then digests, then data: alike beside alike compresses best."""
    heads = ((r.position, r.base or 0, r.size, r.encoding, len(r.data)) for r in records)
    numbers = varints(chain([len(records)], chain.from_iterable(heads)))
    return pack(numbers + b"".join(r.sha256 for r in records) + b"".join(r.data for r in records), _LEVEL)


class Bundle:
    """A bundle taken apart as far as is needed to find one record in it."""

    def __init__(self, data: bytes) -> None:
        """ValueError when it is damaged."""
        self._packed = unpack(data)
        (count,), at = read_varints(self._packed, 1)
        numbers, self._digests = read_varints(self._packed, 5 * count, at)
        self._heads = [numbers[5 * n : 5 * n + 5] for n in range(count)]
        self._index = {head[0]: n for n, head in enumerate(self._heads)}
        body = self._digests + _DIGEST * count
        self._starts = list(accumulate((head[4] for head in self._heads), initial=body))

    def get(self, position: int) -> Record | None:
        """The record of a position, if it is here."""
        n = self._index.get(position)
        if n is None:
            return None
        _, base, size, encoding, length = self._heads[n]
        at = self._digests + _DIGEST * n
        data = self._packed[self._starts[n] : self._starts[n] + length]
        # What is whole is written against nothing; the bundle has a nought there, which is a position too.
        against = None if encoding == Encoding.ZSTD else base
        return Record(position, None, against, size, encoding, self._packed[at : at + _DIGEST], data)

    def heads(self) -> Iterator[tuple[int, int, bytes]]:
        """The position, size and SHA-256 of each record."""
        for n, (position, _, size, _, _) in enumerate(self._heads):
            at = self._digests + _DIGEST * n
            yield position, size, self._packed[at : at + _DIGEST]

    def __iter__(self) -> Iterator[Record]:
        return (record for position in self._index if (record := self.get(position)))
