"""Which sources may hold a text: for each a set of numbers below 32,768, as bits.

What the numbers stand for is up to who makes them.
"""

from historon.store.encoding.codec import pack, unpack

__all__ = ["no_bits", "packed_bits", "unpacked_bits", "with_numbers"]

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
