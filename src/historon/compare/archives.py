"""Looking into archives: the files in them as parts of their own, bounded whatever the archive claims."""

import hashlib
import stat
import tarfile
import zipfile
from collections import Counter
from collections.abc import Iterator, Mapping
from datetime import UTC, datetime
from typing import IO

from historon.base.formats import kind_by_head
from historon.base.packed import Rejoined, TooMuchError, decompressed
from historon.base.quantities import size_text
from historon.store import LARGE, Member, name_of, tree_part_name, written_tree
from historon.versions import stand_in

__all__ = ["ArchiveError", "is_archive", "unpacked"]

_HEAD = 512
_PIECE = 2**18
_MOST = 4 * 2**30  # bytes that are unpacked of one archive
_MOST_MEMBERS = 200_000
_TAR_KINDS = {
    tarfile.DIRTYPE: stat.S_IFDIR,
    tarfile.SYMTYPE: stat.S_IFLNK,
    tarfile.LNKTYPE: stat.S_IFLNK,
    tarfile.CHRTYPE: stat.S_IFCHR,
    tarfile.BLKTYPE: stat.S_IFBLK,
    tarfile.FIFOTYPE: stat.S_IFIFO,
}


class ArchiveError(Exception):
    """An archive that cannot be looked into, or not to its end; the text says why, behind its name."""


def is_archive(content: bytes) -> bool:
    """Whether this is a tar, zip or gzip, bzip2 or xz file, by what it begins with."""
    return kind_by_head(content) not in (None, "sqlite")


def unpacked(name: str, file: IO[bytes]) -> dict[str, bytes]:
    """The members of an archive by name, under the archive's own, with the metadata of all as a part NAME.tree.

    Nothing is ever written to a disk, and no link is followed. All that is held at once is as much as one large part;
    for what is beyond there are stand-ins. ArchiveError when it is damaged or encrypted, or holds more than anybody
    unpacks.
    """
    file.seek(0)
    kind = kind_by_head(file.read(_HEAD))
    file.seek(0)
    try:
        if kind == "zip":
            return _parts(name, _zip_members(file))
        plain = file if kind in ("tar", None) else decompressed(kind, file)
        head = plain.read(_HEAD)
        rest = Rejoined(head, plain, _MOST)
        if kind_by_head(head) == "tar":
            return _parts(name, _tar_members(rest))
        content, _ = _held(rest, LARGE)
    except TooMuchError as exc:
        raise ArchiveError(f"unpacks to more than {exc}") from exc
    except ArchiveError:
        raise
    except Exception as exc:  # whatever its readers meet in foreign bytes
        raise ArchiveError("is a damaged or encrypted archive") from exc
    return {f"{name}/{_bare_name(name)}": content}


def _bare_name(name: str) -> str:
    base = name.rpartition("/")[2]
    return base.rpartition(".")[0] or base


def _held(file: Rejoined | IO[bytes], room: int) -> tuple[bytes, int]:
    """A content and its size, or where there is no room for it what stands in for it, and 0."""
    held, size, digest = bytearray(), 0, hashlib.sha256()
    while piece := file.read(_PIECE):
        size += len(piece)
        if size > _MOST:
            raise TooMuchError(size_text(_MOST))
        digest.update(piece)
        if size <= room:
            held += piece
        else:
            held.clear()
    return (bytes(held), size) if size <= room else (stand_in(size, digest.digest()), 0)


_Found = Iterator[tuple[Member, "IO[bytes] | None"]]


def _parts(name: str, members: _Found) -> dict[str, bytes]:
    parts: dict[str, bytes] = {}
    told: list[Member] = []
    named: Counter[str] = Counter()
    room = LARGE
    for member, file in members:
        told.append(member)
        if len(told) > _MOST_MEMBERS:
            raise ArchiveError(f"has more than {_MOST_MEMBERS:,} members")
        if file is not None:
            content, size = _held(file, room)
            room -= size
            parts[_free(f"{name}/{member.name}", parts, named)] = content
    parts[tree_part_name(name)] = written_tree(told)
    return parts


def _free(name: str, taken: Mapping[str, bytes], named: Counter[str]) -> str:
    """A name for a member beside others of the same name: the last one is what unpacking leaves, but all count."""
    free = name
    while free in taken:
        named[name] += 1
        free = f"{name} ({named[name] + 1})"
    return free


def _tar_members(file: Rejoined) -> _Found:
    with tarfile.open(fileobj=file, mode="r|", bufsize=_PIECE, errorlevel=2) as archive:  # type: ignore[call-overload]
        for one in archive:
            archive.members = []  # tarfile would keep all of them
            kind = _TAR_KINDS.get(one.type, stat.S_IFREG)
            owner = _text(f"{one.uname or one.uid}:{one.gname or one.gid}").replace(" ", "_")
            target = _text(one.linkname) if kind == stat.S_IFLNK else None
            member = Member.of(_tame(_text(one.name)), kind | one.mode & 0o7777, owner, one.mtime, target)
            yield member, archive.extractfile(one) if one.isreg() else None


def _zip_members(file: IO[bytes]) -> _Found:
    room = _MOST
    with zipfile.ZipFile(file) as archive:
        for one in archive.infolist():
            kind = stat.S_IFDIR if one.is_dir() else stat.S_IFREG
            # The times of a zip have no zone; they are only compared with each other.
            at = datetime(*one.date_time, tzinfo=UTC).timestamp()
            member = Member.of(_tame(_text(one.filename)), kind | (one.external_attr >> 16) & 0o7777, "-:-", at)
            room -= one.file_size
            if room < 0:
                raise TooMuchError(size_text(_MOST))
            if one.is_dir():
                yield member, None
                continue
            with archive.open(one) as content:
                yield member, content


def _text(name: str) -> str:
    """A name as it may be kept: what is no UTF-8 is written out."""
    return name_of(name.encode("utf-8", "surrogateescape"))


def _tame(name: str) -> str:
    """A member's name without what would lead out of the archive."""
    return "/".join(part for part in name.split("/") if part not in ("", ".", "..")) or "."
