"""Large contents, cut into blocks that are compressed one by one; equal blocks of one strand are kept once."""

import hashlib
from collections.abc import Iterator

from historon.base.errors import StoreError
from historon.store.encoding import DamagedError, Encoding, pack, read_varints, unpack, varints
from historon.store.ledger.transactions import Database
from historon.store.records import Part

__all__ = ["Blocks"]

_LEVEL = 3


class Blocks:
    """The table `block`; every call runs inside the caller's transaction."""

    def __init__(self, db: Database) -> None:
        self._db = db

    def write(self, strand: int, part: Part) -> bytes:
        """Write a part block by block; returns what its record holds: the numbers of its blocks."""
        return varints(self._put(strand, piece) for piece in part.pieces())

    def _put(self, strand: int, piece: bytes) -> int:
        digest = hashlib.sha256(piece).digest()
        find = "SELECT id FROM block WHERE strand = ? AND sha256 = ?"
        found = self._db.execute(find, (strand, digest)).fetchone()
        if found:
            return int(found[0])
        made = self._db.execute(
            "INSERT INTO block (id, strand, sha256, data) "
            "VALUES ((SELECT coalesce(max(id), 0) + 1 FROM block), ?, ?, ?) RETURNING id",
            (strand, digest, pack(piece, _LEVEL)),
        )
        return int(made.fetchone()[0])

    def read(self, record: bytes) -> Iterator[bytes]:
        """The blocks of a record, in their order."""
        for number in read_varints(record)[0]:
            found = self._db.execute("SELECT data FROM block WHERE id = ?", (number,)).fetchone()
            try:
                yield unpack(found[0])
            except (TypeError, DamagedError) as exc:
                raise StoreError(f"block {number} is damaged", hint="rebuild the store from a copy") from exc

    def size(self, record: bytes) -> int:
        """How many bytes the blocks of a record take."""
        numbers = read_varints(record)[0]
        rows = (self._db.execute("SELECT length(data) FROM block WHERE id = ?", (one,)).fetchone() for one in numbers)
        return sum(int(row[0]) for row in rows if row)

    def sweep(self, strand: int) -> None:
        """Remove the blocks of a strand that no content is made of any more."""
        if not self._db.execute("SELECT 1 FROM block WHERE strand = ? LIMIT 1", (strand,)).fetchone():
            return
        rows = self._db.execute(
            "SELECT data FROM content WHERE strand = ? AND encoding = ?", (strand, Encoding.BLOCKS)
        ).fetchall()
        used = {number for (data,) in rows for number in read_varints(data)[0]}
        for (number,) in self._db.execute("SELECT id FROM block WHERE strand = ?", (strand,)).fetchall():
            if number not in used:
                self._db.execute("DELETE FROM block WHERE id = ?", (number,))
