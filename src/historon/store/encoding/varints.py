"""Whole numbers in as few bytes as they need (LEB128, DWARF 5 section 7.6): seven bits a byte, the lowest first."""

from collections.abc import Iterable

__all__ = ["append_varint", "read_varints", "varints"]


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
