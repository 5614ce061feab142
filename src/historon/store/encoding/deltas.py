"""How contents are written down: whole, or as what changed against another content, and against which.

Three open forms (docs/store-format.md): a zstd frame (RFC 8878); a zstd frame that has another content as its raw
prefix; and a splice list, which for the edit of a line is the smallest and by far the quickest to find.

The contents of one part of one source form a strand and have positions in it, from 0 on. Position n is written
against the one before it, save every sixteenth, which is written against `n & (n - 1)`, n with its lowest set bit
cleared: so no chain is longer than 15 and the set bits of n / 16, and what would be keyframes are small deltas
themselves. Every 1,024 positions a keyframe begins again.
"""

from collections.abc import Iterator
from enum import IntEnum

from historon.base.sequences import common_start
from historon.store.encoding.codec import pack, pack_on, size_on, unpack, unpack_on
from historon.store.encoding.numbers import read_varints, varints

__all__ = [
    "CHAIN_BYTES",
    "EPOCH",
    "LONGEST_CHAIN",
    "SPANS",
    "Encoding",
    "base_of",
    "decode",
    "encode",
    "encode_whole",
    "next_epoch",
    "sketch",
]

_ANCHOR = 48  # bytes that must be equal for the splice to take up the base again
_NEAR = 4096  # where an anchor is looked for first: repetitive text has the same bytes in many places
_TRIES = 400  # line starts that are looked at for an anchor, in one content, before zstd has to do it
_SHORT = 2048  # a splice of this many bytes is taken without asking zstd: it will be compressed in a bundle
_QUICK, _HARD = 9, 19  # zstd's levels: while a round is taken in, and later, at leisure
_SKETCH = 16 * 1024
_THOROUGH = 256 * 1024  # the hard level is only for contents up to this size


class Encoding(IntEnum):
    """The written form; the numbers stand in the ledger and never change their meaning."""

    ZSTD = 0
    ZSTD_ON_BASE = 1
    SPLICE = 2
    BLOCKS = 3  # the numbers of blocks, each a zstd frame of its own


def encode_whole(content: bytes, *, thorough: bool = False) -> tuple[Encoding, bytes]:
    """The content by itself."""
    return Encoding.ZSTD, pack(content, _level(content, thorough))


def encode(content: bytes, base: bytes, *, thorough: bool = False) -> tuple[Encoding, bytes]:
    """The content as what changed against the base: the smaller of a splice and zstd on the base."""
    spliced = _splice(base, content)
    if spliced is not None and len(spliced) <= _SHORT:
        return Encoding.SPLICE, spliced
    packed = pack_on(content, base, _level(content, thorough))
    if spliced is not None and len(spliced) <= len(packed):
        return Encoding.SPLICE, spliced
    return Encoding.ZSTD_ON_BASE, packed


def _level(content: bytes, thorough: bool) -> int:
    return _HARD if thorough and len(content) <= _THOROUGH else _QUICK


def sketch(content: bytes, base: bytes = b"") -> int:
    """About how small the beginning of the content gets on the base; tells which of several bases is nearest."""
    return size_on(content[:_SKETCH], base[:_SKETCH])


def decode(encoding: Encoding, data: bytes, base: bytes, size: int) -> bytes:
    """The content again. ValueError when the data is not what `encode` wrote; `size` bounds what is made."""
    if encoding is Encoding.SPLICE:
        return b"".join(_pieces(data, base))
    if encoding is Encoding.ZSTD_ON_BASE:
        return unpack_on(data, base, size)
    return unpack(data, size)


def _splice(base: bytes, content: bytes) -> bytes | None:
    """A splice list, found greedily; None when the two have too little in common for it to be short.

    It is the count of splices; for each, how many new bytes to take, a jump in the base from where the last copy ended
    (zigzag: positive ones doubled, negative ones doubled less one), and how many bytes to copy; then all the new bytes.
    """
    numbers: list[int] = []
    new = bytearray()
    base_at = at = copied_to = 0
    while at < len(content):
        insert_from = at
        if base_at >= len(base) or base[base_at] != content[at]:
            found = _take_up(base, base_at, content, at)
            if found is None or len(new) + at - insert_from > len(content) // 4 + 64:
                return None
            base_at, at = found
        same = common_start(base, base_at, content, at)
        new += content[insert_from:at]
        numbers += (at - insert_from, _zigzag(base_at - copied_to), same)
        base_at, at = base_at + same, at + same
        copied_to = base_at
    return varints([len(numbers) // 3, *numbers]) + bytes(new)


def _take_up(base: bytes, base_at: int, content: bytes, at: int) -> tuple[int, int] | None:
    """Where base and content agree again; at the content's end when they never do, None when it takes too long."""
    for tries, start in enumerate(_line_starts(content, at), 1):
        if tries > _TRIES:
            return None
        anchor = content[start : start + _ANCHOR]
        position = base.find(anchor, base_at, base_at + start - at + _NEAR)
        if position < 0 and tries % 8 == 0:
            position = base.find(anchor, base_at)
        if position >= 0:
            return _back(base, base_at, position, content, at, start)
    return base_at, len(content)


def _line_starts(content: bytes, at: int) -> Iterator[int]:
    """Where lines begin after `at`, as long as an anchor fits behind them."""
    while 0 < (at := content.find(b"\n", at) + 1) <= len(content) - _ANCHOR:
        yield at


def _back(base: bytes, base_from: int, base_at: int, content: bytes, start: int, at: int) -> tuple[int, int]:
    """The pair of places moved back over what is equal before them, not beyond where each may start."""
    while base_at > base_from and at > start and base[base_at - 1] == content[at - 1]:
        base_at, at = base_at - 1, at - 1
    return base_at, at


def _pieces(data: bytes, base: bytes) -> Iterator[bytes]:
    (count,), at = read_varints(data, 1)
    numbers, at = read_varints(data, 3 * count, at)
    copied_to = 0
    for n in range(0, 3 * count, 3):
        taken, jump, length = numbers[n : n + 3]
        if taken:
            yield data[at : at + taken]
            at += taken
        copied_from = copied_to + (jump >> 1 ^ -(jump & 1))
        if copied_from < 0:
            raise ValueError("a splice points before its base")
        copied_to = copied_from + length
        yield base[copied_from:copied_to]


def _zigzag(number: int) -> int:
    return number << 1 if number >= 0 else (-number << 1) - 1


EPOCH = 1024
_RUN = 16
SPANS = (64, _RUN)  # positions in a bundle, the largest first
CHAIN_BYTES = 64 * 2**20  # the contents that are read before one stay below this, if all are as large
LONGEST_CHAIN = _RUN - 1 + (EPOCH // _RUN - 1).bit_count() + 2


def base_of(position: int, size: int) -> int:
    """The position that a content of so many bytes is written against; not asked of a keyframe."""
    if position % _RUN and size * LONGEST_CHAIN <= CHAIN_BYTES:
        return position - 1
    base = position & (position - 1)
    while base % EPOCH and ((base % EPOCH).bit_count() + 1) * size > CHAIN_BYTES:
        base &= base - 1
    return base


def next_epoch(position: int) -> int:
    """The first position of an epoch that is not before this one."""
    return -(-position // EPOCH) * EPOCH
