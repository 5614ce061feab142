"""Contents on their way into the store: in memory while they are small, in a nameless file when they grow."""

import hashlib
import tempfile
from pathlib import Path
from typing import IO

from historon.base.quantities import size_text
from historon.collect.failures import TAIL, CollectError, FailureKind
from historon.store import LARGE, Part

__all__ = ["Spool"]


class Spool:
    """Takes a content piece by piece, up to a limit. What is in it is gone with the process."""

    def __init__(self, folder: Path, limit: int) -> None:
        self._folder = folder
        self._limit = limit
        self._memory = bytearray()
        self._file: IO[bytes] | None = None
        self._digest = hashlib.sha256()
        self.size = 0

    def write(self, data: bytes) -> None:
        """Take another piece. CollectError when it becomes too much, OSError when the disk takes no more."""
        self.size += len(data)
        if self.size > self._limit:
            raise CollectError(FailureKind.TOO_LARGE, f"it exceeds {size_text(self._limit)}", tail=self.tail)
        self._digest.update(data)
        if self._file is None and self.size > LARGE:
            self._file = tempfile.TemporaryFile(dir=self._folder)  # noqa: SIM115 (the part closes it)
            self._file.write(self._memory)
            self._memory.clear()
        if self._file is not None:
            self._file.write(data)
        else:
            self._memory += data

    @property
    def tail(self) -> bytes:
        """The end of what came, while it is small."""
        return bytes(self._memory[-TAIL:])

    def part(self, name: str) -> Part:
        """What came, as a part."""
        if self._file is None:
            return Part(name, bytes(self._memory))
        self._file.flush()
        return Part(name, spool=self._file, spooled=(self.size, self._digest.digest()))

    def clear(self) -> None:
        """Forget what came, and take another content."""
        self.drop()
        self._memory.clear()
        self._file, self._digest, self.size = None, hashlib.sha256(), 0

    def drop(self) -> None:
        """Forget what came."""
        if self._file is not None:
            self._file.close()
