"""What sources may hold: for each a set of numbers below 32,768, by which most of them need not be read to find a text.

What the numbers stand for is up to who makes them. Nightly ones are few, and are appended; when they have become many
they are joined with the set, which rests as compressed bits.
"""

from collections.abc import Iterator

from historon.store.encoding import no_bits, packed_bits, unpacked_bits, with_numbers
from historon.store.ledger.transactions import Database

__all__ = ["Signatures"]

_MANY = 512  # bytes of appended numbers from which on they are joined with the rest


class Signatures:
    """The table `signature`; every call runs inside the caller's transaction."""

    def __init__(self, db: Database) -> None:
        self._db = db

    def add(self, source: int, version: int, numbers: bytes | None) -> None:
        """Add what a version holds, two bytes each; with None the source is not known to lack anything any more."""
        if numbers is None:
            self._db.execute("DELETE FROM signature WHERE source = ?", (source,))
            return
        row = self._db.execute("SELECT more FROM signature WHERE source = ?", (source,)).fetchone()
        if row is None:
            bits = packed_bits(with_numbers(no_bits(), numbers))
            self._db.execute("INSERT INTO signature VALUES (?, ?, ?, ?)", (source, version, bits, b""))
            return
        try:
            more = row[0] + numbers
            self._db.execute("UPDATE signature SET more = ? WHERE source = ?", (more, source))
            if len(more) > _MANY:
                _, joined = self.of(source) or (0, b"")
                self._db.execute(
                    "UPDATE signature SET bits = ?, more = ? WHERE source = ?", (packed_bits(joined), b"", source)
                )
        except (ValueError, IndexError, TypeError):
            self.add(source, version, None)  # damaged: this source is searched by reading it from now on

    def known(self, source: int) -> bool:
        """Whether there is a set for this source."""
        return self._db.execute("SELECT 1 FROM signature WHERE source = ?", (source,)).fetchone() is not None

    def of(self, source: int) -> tuple[int, bytes] | None:
        """The version that the set begins with, and its bits."""
        row = self._db.execute("SELECT first, bits, more FROM signature WHERE source = ?", (source,)).fetchone()
        return (row[0], with_numbers(unpacked_bits(row[1]), row[2])) if row else None

    def all(self) -> Iterator[tuple[str, int, bytes]]:
        """The same for all sources, with their names."""
        query = "SELECT name, first, bits, more FROM signature JOIN source ON source.id = source"
        for name, first, bits, more in self._db.execute(query).fetchall():
            yield name, first, with_numbers(unpacked_bits(bits), more)
