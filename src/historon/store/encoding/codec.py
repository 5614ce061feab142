"""What bytes look like at rest: zstd frames (RFC 8878). Nothing else in the store compresses anything."""

import zstandard

__all__ = ["DamagedError", "pack", "pack_on", "size_on", "unpack", "unpack_on"]

_WIDEST = 2**31  # bytes of a frame's window that are followed


class DamagedError(ValueError):
    """Bytes at rest that are not what was written."""


def pack(content: bytes, level: int) -> bytes:
    """The content by itself."""
    return zstandard.ZstdCompressor(level=level, write_content_size=True).compress(content)


def unpack(data: bytes, size: int | None = None) -> bytes:
    """The content again. DamagedError when the data is no frame, or one of another size than this one."""
    return _unpacked(zstandard.ZstdDecompressor(), data, size)


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
            raise DamagedError("the frame holds another size than the ledger says")
        return reader.decompress(data, max_output_size=size)
    except (zstandard.ZstdError, TypeError) as exc:
        raise DamagedError(str(exc)) from exc
