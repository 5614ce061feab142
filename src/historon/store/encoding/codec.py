"""What bytes look like at rest: zstd frames (RFC 8878). Nothing else in the store compresses anything."""

from collections.abc import Iterator
from typing import IO, cast

import zstandard

__all__ = ["DamagedError", "pack", "pack_on", "size_on", "unpack", "unpack_on", "unpack_pieces"]

_PIECE = 2**20
_WINDOW = 2**27  # bytes of a window that is followed where frames come from elsewhere
_WIDEST = 2**31  # bytes of a frame's window that are followed


class DamagedError(ValueError):
    """Bytes at rest that are not what was written."""


def pack(content: bytes, level: int) -> bytes:
    """The content by itself."""
    return zstandard.ZstdCompressor(level=level, write_content_size=True).compress(content)


def unpack(data: bytes, size: int | None = None) -> bytes:
    """The content again. DamagedError when the data is no frame, or one of another size than this one."""
    return _unpacked(zstandard.ZstdDecompressor(), data, size)


def unpack_pieces(pieces: Iterator[bytes]) -> Iterator[bytes]:
    """What frames hold that come one after another, in pieces of any size. DamagedError when they are none.

    Memory is bounded, whatever they say. Where the last one is cut short what it held is cut short too.
    """
    source = cast(IO[bytes], _Reading(pieces))
    reader = zstandard.ZstdDecompressor(max_window_size=_WINDOW).stream_reader(source, read_across_frames=True)
    try:
        while piece := reader.read(_PIECE):
            yield piece
    except zstandard.ZstdError as exc:
        raise DamagedError(str(exc)) from exc


class _Reading:
    """Pieces as a file that is read from its beginning to its end."""

    def __init__(self, pieces: Iterator[bytes]) -> None:
        self._pieces = pieces
        self._left = b""

    def read(self, size: int) -> bytes:
        while not self._left:
            piece = next(self._pieces, None)
            if piece is None:
                return b""
            self._left = piece
        found, self._left = self._left[:size], self._left[size:]
        return found


def pack_on(content: bytes, base: bytes, level: int) -> bytes:
    """The content as what it has that the base, its raw prefix, has not."""
    parameters = zstandard.ZstdCompressionParameters.from_level(
        level, source_size=len(base) + len(content), write_content_size=True
    )
    return zstandard.ZstdCompressor(dict_data=_prefix(base), compression_params=parameters).compress(content)


def unpack_on(data: bytes, base: bytes, size: int) -> bytes:
    """The content again. DamagedError when the data is no frame, or one of another size than this one."""
    reader = zstandard.ZstdDecompressor(dict_data=_prefix(base), max_window_size=_WIDEST)
    return _unpacked(reader, data, size)


def size_on(content: bytes, base: bytes) -> int:
    """How many bytes the content takes on the base, written quickly."""
    return len(zstandard.ZstdCompressor(level=3, dict_data=_prefix(base)).compress(content))


def _prefix(base: bytes) -> zstandard.ZstdCompressionDict:
    return zstandard.ZstdCompressionDict(base, dict_type=zstandard.DICT_TYPE_RAWCONTENT)


def _unpacked(reader: zstandard.ZstdDecompressor, data: bytes, size: int | None) -> bytes:
    try:
        if size is None:
            return reader.decompress(data)
        if zstandard.frame_content_size(data) != size:
            raise DamagedError("the frame has another size than the ledger records")
        return reader.decompress(data, max_output_size=size)
    except (zstandard.ZstdError, TypeError) as exc:
        raise DamagedError(str(exc)) from exc
