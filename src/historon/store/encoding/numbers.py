"""Numbers at rest: one after another in as few bytes as they need, and sets of them as bits.

LEB128 (DWARF 5 section 7.6) has seven bits a byte, the lowest first. Sets are of numbers below 32,768: which sources
may hold a text. What the numbers stand for is up to who makes them.
"""

from collections.abc import Iterable

from historon.store.encoding.codec import pack, unpack

__all__ = ["append_varint", "no_bits", "packed_bits", "read_varints", "unpacked_bits", "varints", "with_numbers"]


def append_varint(out: bytearray, number: int) -> None:
    """Append a number that is not negative."""
    while number > 127:
        out.append(number & 127 | 128)
        number >>= 7
    out.append(number)


def varints(numbers: Iterable[int]) -> bytes:
    """All the numbers, one after another."""
    out = bytearray()
    for number in numbers:
        append_varint(out, number)
    return bytes(out)


def read_varints(data: bytes, count: int = -1, at: int = 0) -> tuple[list[int], int]:
    """That many numbers from `at` on, or all, and where they end. ValueError when the data ends too early."""
    if count < 0 and data[at:].isascii():
        return list(data[at:]), len(data)  # each number in a byte of its own, as most are
    numbers: list[int] = []
    try:
        while len(numbers) != count and (count >= 0 or at < len(data)):
            byte = data[at]
            number, shift = byte & 127, 7
            while byte > 127:
                at += 1
                byte = data[at]
                number |= (byte & 127) << shift
                shift += 7
            numbers.append(number)
            at += 1
    except IndexError as exc:
        raise ValueError("the data ends in the middle of a number") from exc
    return numbers, at


_BYTES = 4096
_LEVEL = 3


def no_bits() -> bytes:
    """A set of nothing."""
    return bytes(_BYTES)


def with_numbers(bits: bytes, numbers: bytes) -> bytes:
    """A set with these numbers too, two bytes each. ValueError or IndexError when they are none."""
    made = bytearray(bits)
    for high, low in zip(numbers[::2], numbers[1::2], strict=True):
        place = high << 8 | low
        made[place >> 3] |= 1 << (place & 7)
    return bytes(made)


def packed_bits(bits: bytes) -> bytes:
    """A set as it rests."""
    return pack(bits, _LEVEL)


def unpacked_bits(data: bytes) -> bytes:
    """A set that rested. DamagedError when it is none."""
    return unpack(data)
