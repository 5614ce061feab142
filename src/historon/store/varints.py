"""Whole numbers in as few bytes as they need (LEB128, DWARF 5 section 7.6): seven bits a byte, the lowest first."""

from collections.abc import Iterable, Iterator

__all__ = ["append_varint", "read_varint", "read_varints", "varints"]


def append_varint(out: bytearray, number: int) -> None:
    """Append a number that is not negative."""
    while number > 127:
        out.append(number & 127 | 128)
        number >>= 7
    out.append(number)


def read_varint(data: bytes, at: int) -> tuple[int, int]:
    """The number that begins at `at`, and where the next one does. ValueError when it does not end."""
    number = shift = 0
    while True:
        if at >= len(data) or shift > 63:
            raise ValueError("the data ends in the middle of a number")
        byte = data[at]
        number |= (byte & 127) << shift
        at, shift = at + 1, shift + 7
        if byte < 128:
            return number, at


def varints(numbers: Iterable[int]) -> bytes:
    """All the numbers, one after another."""
    out = bytearray()
    for number in numbers:
        append_varint(out, number)
    return bytes(out)


def read_varints(data: bytes) -> Iterator[int]:
    """All the numbers that the data holds."""
    at = 0
    while at < len(data):
        number, at = read_varint(data, at)
        yield number
