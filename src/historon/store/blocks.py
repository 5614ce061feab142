"""Large contents, cut into blocks that are compressed one by one; equal blocks of one strand are kept once."""

import hashlib
import sqlite3
from collections.abc import Iterator

import zstandard

from historon.errors import StoreError
from historon.store.deltas import Encoding
from historon.store.interface import Part
from historon.store.varints import read_varints, varints

__all__ = ["Blocks"]

_LEVEL = 3


class Blocks:
    """The table `block`; every call runs inside the caller's transaction."""

    def __init__(self, db: sqlite3.Connection) -> None:
        self._db = db

    def write(self, strand: int, part: Part) -> bytes:
        """Write a part block by block; returns what its record holds: the numbers of its blocks."""
        packer = zstandard.ZstdCompressor(level=_LEVEL, write_content_size=True)
        return varints(self._put(strand, piece, packer) for piece in part.pieces())

    def _put(self, strand: int, piece: bytes, packer: zstandard.ZstdCompressor) -> int:
        digest = hashlib.sha256(piece).digest()
        find = "SELECT id FROM block WHERE strand = ? AND sha256 = ?"
        if found := self._db.execute(find, (strand, digest)).fetchone():
            return int(found[0])
        row = (strand, digest, packer.compress(piece))
        return int(self._db.execute("INSERT INTO block (strand, sha256, data) VALUES (?, ?, ?)", row).lastrowid or 0)

    def read(self, record: bytes) -> Iterator[bytes]:
        """The blocks of a record, in their order."""
        for number in read_varints(record)[0]:
            found = self._db.execute("SELECT data FROM block WHERE id = ?", (number,)).fetchone()
            try:
                yield zstandard.ZstdDecompressor().decompress(found[0])
            except (TypeError, zstandard.ZstdError) as exc:
                raise StoreError(f"block {number} is damaged", hint="take the store back from a copy") from exc

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
