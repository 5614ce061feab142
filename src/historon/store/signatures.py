"""What sources may hold: for each a set of numbers below 32,768, by which most of them need not be read to find a text.

What the numbers stand for is up to who makes them. Nightly ones are few, and are appended; when they have become many
they are joined with the set, which rests as compressed bits.
"""

import sqlite3
from collections.abc import Iterator

import zstandard

__all__ = ["Signatures"]

_BYTES = 4096
_MANY = 512  # bytes of appended numbers from which on they are joined with the rest
_PACKER, _UNPACKER = zstandard.ZstdCompressor(level=3), zstandard.ZstdDecompressor()


class Signatures:
    """The table `signature`; every call runs inside the caller's transaction."""

    def __init__(self, db: sqlite3.Connection) -> None:
        self._db = db

    def add(self, source: int, version: int, numbers: bytes | None) -> None:
        """Add what a version holds, two bytes each; with None the source is not known to lack anything any more."""
        if numbers is None:
            self._db.execute("DELETE FROM signature WHERE source = ?", (source,))
            return
        found = self._db.execute(
            "UPDATE signature SET more = CAST(more || ? AS BLOB) WHERE source = ? RETURNING length(more)",
            (numbers, source),
        ).fetchall()
        if not found:
            bits = _PACKER.compress(_joined(bytes(_BYTES), numbers))
            self._db.execute("INSERT INTO signature VALUES (?, ?, ?, x'')", (source, version, bits))
        elif found[0][0] > _MANY:
            try:
                _, bits = self.of(source) or (0, b"")
            except (ValueError, IndexError, TypeError, zstandard.ZstdError):
                self.add(source, version, None)  # damaged: this source is searched by reading it from now on
                return
            self._db.execute(
                "UPDATE signature SET bits = ?, more = x'' WHERE source = ?", (_PACKER.compress(bits), source)
            )

    def known(self, source: int) -> bool:
        """Whether there is a set for this source."""
        return self._db.execute("SELECT 1 FROM signature WHERE source = ?", (source,)).fetchone() is not None

    def of(self, source: int) -> tuple[int, bytes] | None:
        """The version that the set begins with, and its bits."""
        row = self._db.execute("SELECT first, bits, more FROM signature WHERE source = ?", (source,)).fetchone()
        return (row[0], _joined(_UNPACKER.decompress(row[1]), row[2])) if row else None

    def all(self) -> Iterator[tuple[str, int, bytes]]:
        """The same for all sources, with their names."""
        query = "SELECT name, first, bits, more FROM signature JOIN source ON source.id = source"
        for name, first, bits, more in self._db.execute(query).fetchall():
            yield name, first, _joined(_UNPACKER.decompress(bits), more)


def _joined(bits: bytes, numbers: bytes) -> bytes:
    made = bytearray(bits)
    for high, low in zip(numbers[::2], numbers[1::2], strict=True):
        place = high << 8 | low
        made[place >> 3] |= 1 << (place & 7)
    return bytes(made)
