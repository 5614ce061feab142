"""Versions as one tar (POSIX.1-2001 pax), written as a stream."""

import os
import stat
import tarfile
from collections.abc import Iterator, Sequence
from typing import IO

from historon.restore.writing import Naming, members_of, wanted_parts
from historon.store import Store, Version, raw_name
from historon.versions import Masks

__all__ = ["add_to_tar", "opened_tar"]


def add_to_tar(
    archive: tarfile.TarFile, store: Store, version: Version, masks: Masks, *, only: Sequence[str], naming: Naming
) -> int:
    """Add the parts of a version, or what is meant by `only`; returns how many files those are.

    Names are as `naming` has them; times, modes and links those of a tree where they are known, else the version's
    instant, readable by the owner alone. Each content is checked against its SHA-256 as it is read: StoreError.
    """
    members = dict(members_of(store, store.parts(version.source, version.number)))
    count = 0
    for name, size, pieces in wanted_parts(store, version, masks, only):
        told = naming.name(name)
        if told is None:
            continue
        entry = tarfile.TarInfo(os.fsdecode(raw_name(told)))
        member = members.pop(name, None)
        entry.size = size
        entry.mode = stat.S_IMODE(member.mode) if member else 0o600
        entry.mtime = int((member.at if member else version.at).timestamp())
        archive.addfile(entry, _Pieces(pieces))  # type: ignore[arg-type]
        count += 1
    for name, member in sorted(members.items()):
        told = naming.name(name, dated=False)
        if told is None or only or not stat.S_ISLNK(member.mode) or member.target is None:
            continue
        entry = tarfile.TarInfo(os.fsdecode(raw_name(told)))
        entry.type, entry.linkname = tarfile.SYMTYPE, os.fsdecode(raw_name(member.target))
        entry.mtime = int(member.at.timestamp())
        archive.addfile(entry)
    return count


class _Pieces:
    """Pieces as a file that is read to its end."""

    def __init__(self, pieces: Iterator[bytes]) -> None:
        self._pieces = pieces
        self._left = b""

    def read(self, size: int) -> bytes:
        while len(self._left) < size and (piece := next(self._pieces, None)) is not None:
            self._left += piece
        found, self._left = self._left[:size], self._left[size:]
        return found


def opened_tar(out: IO[bytes]) -> tarfile.TarFile:
    """A tar that is written to a stream."""
    return tarfile.open(fileobj=out, mode="w|", format=tarfile.PAX_FORMAT)
