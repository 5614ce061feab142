"""Packed contents: reading them as streams in bounded memory."""

import bz2
import gzip
import io
import lzma
from typing import IO

from historon.base.quantities import size_text

__all__ = ["Rejoined", "TooMuchError", "decompressed"]

_PIECE = 2**18
_XZ_MEMORY = 2**28  # bytes that unpacking may take; what a file asks for may be sixteen times as much


def decompressed(kind: str, file: IO[bytes]) -> IO[bytes]:
    """What a file of this kind (`gzip`, `bzip2`, `xz`) holds. Reading raises what gzip, bz2 and lzma do; see there."""
    if kind == "gzip":
        return gzip.GzipFile(fileobj=file)  # type: ignore[return-value]
    return bz2.BZ2File(file) if kind == "bzip2" else io.BufferedReader(_Xz(file), _PIECE)


class TooMuchError(Exception):
    """More bytes than anybody unpacks; the text says how many those are."""


class Rejoined:
    """A beginning that was read already, and the rest: as much of a file as tarfile's streams ask for.

    `count` is how many bytes were read of it.
    """

    def __init__(self, head: bytes, rest: IO[bytes], most: int) -> None:
        self._head, self._rest, self._most = head, rest, most
        self.count = 0

    def read(self, size: int) -> bytes:
        """The next bytes; all that is asked for, unless it ends before. TooMuchError beyond `most` bytes."""
        piece, self._head = self._head[:size], self._head[size:]
        while len(piece) < size and (more := self._rest.read(size - len(piece))):
            piece += more
        self.count += len(piece)
        if self.count > self._most:
            raise TooMuchError(size_text(self._most))
        return piece


class _Xz(io.RawIOBase):
    """What an xz file holds, one stream behind the other; lzma.LZMAFile sets no limit to its memory."""

    def __init__(self, file: IO[bytes]) -> None:
        self._file = file
        self._input = b""
        self._stream: lzma.LZMADecompressor | None = None
        self._ended = 0

    def readable(self) -> bool:
        """It is."""
        return True

    def readinto(self, buffer: "memoryview[int]") -> int:  # type: ignore[override]
        """The next bytes. LZMAError when it is damaged or takes too much memory, EOFError when it is cut off."""
        while True:
            if self._stream is None:
                # Streams may be padded with zeros, four at a time (xz file format 1.2.1, 2.2).
                self._input = (self._input or self._file.read(_PIECE)).lstrip(b"\0" if self._ended else b"")
                if not self._input:
                    return 0
                self._stream = lzma.LZMADecompressor(lzma.FORMAT_XZ, memlimit=_XZ_MEMORY)
            if self._stream.needs_input and not self._input:
                self._input = self._file.read(_PIECE)
                if not self._input:
                    raise EOFError("it ends in the middle")
            made = self._stream.decompress(self._input, len(buffer))
            self._input = b""
            if self._stream.eof:
                self._input, self._stream, self._ended = self._stream.unused_data, None, self._ended + 1
            if made:
                buffer[: len(made)] = made
                return len(made)
