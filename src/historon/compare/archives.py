"""Looking into archives: the files in them as parts of their own, bounded whatever the archive claims."""

import gzip
import io
import lzma
import stat
import tarfile
import zipfile
import zlib
from bz2 import BZ2Decompressor
from collections.abc import Iterator
from datetime import UTC, datetime

from historon.store import LARGE, Member, written_tree

__all__ = ["is_archive", "unpacked"]

_MOST_MEMBERS = 20_000
_ERRORS = (tarfile.TarError, zipfile.BadZipFile, OSError, EOFError, ValueError, zlib.error, lzma.LZMAError,
           NotImplementedError, RuntimeError)  # fmt: skip


def is_archive(content: bytes) -> bool:
    """Whether this is a tar, zip or gzip, bzip2 or xz file, by what it begins with."""
    return content.startswith((b"\x1f\x8b", b"PK\x03\x04", b"PK\x05\x06", b"BZh", b"\xfd7zXZ\0")) or _is_tar(content)


def unpacked(name: str, content: bytes) -> dict[str, bytes] | None:
    """The members of an archive by name, under the archive's own, with their metadata as a part; None for what is none.

    Nothing is ever written to a disk, no link is followed, and what would take more room than a large part, or is
    damaged or encrypted, is not looked into.
    """
    try:
        if content.startswith(b"PK"):
            return _parts(name, _zip_members(content))
        plain = content if _is_tar(content) else _decompressed(content)
        if plain is None:
            return None
        if _is_tar(plain):
            return _parts(name, _tar_members(plain))
        return {f"{name}/{_bare_name(name)}": plain}
    except _ERRORS:
        return None


def _is_tar(content: bytes) -> bool:
    return content[257:262] == b"ustar"


def _bare_name(name: str) -> str:
    base = name.rpartition("/")[2]
    return base.rpartition(".")[0] or base


def _decompressed(content: bytes) -> bytes | None:
    """What a compressed file holds, as far as it may be held."""
    if content.startswith(b"\x1f\x8b"):
        with gzip.open(io.BytesIO(content)) as file:
            plain = file.read(LARGE + 1)
    elif content.startswith(b"BZh"):
        plain = BZ2Decompressor().decompress(content, LARGE + 1)
    elif content.startswith(b"\xfd7zXZ\0"):
        plain = lzma.LZMADecompressor(memlimit=2**28).decompress(content, LARGE + 1)
    else:
        return None
    return plain if len(plain) <= LARGE else None


_Found = Iterator[tuple[Member, bytes | None]]


def _parts(name: str, members: _Found) -> dict[str, bytes]:
    parts: dict[str, bytes] = {}
    told: list[Member] = []
    room = LARGE
    for member, content in members:
        told.append(member)
        if content is not None:
            room -= len(content)
            parts[f"{name}/{member.name}"] = content
        if len(told) > _MOST_MEMBERS or room < 0:
            raise ValueError("more than is looked into")
    parts[f"{name}.tree"] = written_tree(told)
    return parts


def _tar_members(content: bytes) -> _Found:
    with tarfile.open(fileobj=io.BytesIO(content), mode="r:") as archive:
        for one in archive:
            kind = stat.S_IFDIR if one.isdir() else stat.S_IFLNK if one.issym() or one.islnk() else stat.S_IFREG
            owner = f"{one.uname or one.uid}:{one.gname or one.gid}".replace(" ", "_")
            target = one.linkname if kind == stat.S_IFLNK else None
            file = archive.extractfile(one) if one.isreg() and one.size <= LARGE else None
            member = Member.of(_tame(one.name), kind | one.mode & 0o777, owner, one.mtime, target)
            yield member, file.read() if file else None


def _zip_members(content: bytes) -> _Found:
    with zipfile.ZipFile(io.BytesIO(content)) as archive:
        for one in archive.infolist():
            kind = stat.S_IFDIR if one.is_dir() else stat.S_IFREG
            # The times of a zip have no zone; they are only compared with each other.
            at = datetime(*one.date_time, tzinfo=UTC).timestamp()
            member = Member.of(_tame(one.filename), kind | (one.external_attr >> 16) & 0o777, "-:-", at)
            if one.is_dir() or one.file_size > LARGE:
                yield member, None
                continue
            with archive.open(one) as file:
                yield member, file.read(LARGE + 1)


def _tame(name: str) -> str:
    """A member's name without what would lead out of the archive."""
    return "/".join(part for part in name.split("/") if part not in ("", ".", "..")) or "."
