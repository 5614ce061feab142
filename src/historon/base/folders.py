"""Folders that are reached step by step, so that no link leads elsewhere which another user could have placed.

Every name below such a folder is looked up in an open folder (openat(2)) and followed nowhere. On the way to the folder
itself a link is followed only where nobody but the superuser and this user could have made it.
"""

import errno
import hashlib
import os
import stat
from collections.abc import Callable, Iterable, Iterator
from contextlib import contextmanager, suppress
from io import BufferedReader
from pathlib import Path, PurePosixPath
from types import TracebackType
from typing import Self

from historon.base.errors import OutsideError

__all__ = ["Below", "Dress", "LinkError", "beside", "final", "reached"]

Dress = Callable[[int], None]  # gives an open file its metadata, before it takes its name

_MOST_LINKS = 40  # as many as the system follows (path_resolution(7))
_FOLDER = os.O_RDONLY | os.O_DIRECTORY | os.O_NOFOLLOW | os.O_CLOEXEC
_LINKED = (errno.ELOOP, errno.ENOTDIR)


class LinkError(OutsideError):
    """A link is on the way that another user could have placed; nothing was written through it."""

    def __init__(self, place: str) -> None:
        super().__init__(
            f"{place} is a link; nothing was written through it",
            hint="another user could have created it: remove it, or use its target as the path",
        )


@contextmanager
def reached(path: Path, *, make: bool = False) -> Iterator[int]:
    """A folder, open; links on the way to it are followed only where they can be trusted.

    With `make` what is missing is made, for this user only. Raises LinkError, OSError.
    """
    here = os.open("/", _FOLDER)
    waiting = list(reversed(Path(os.path.abspath(path)).parts[1:]))
    at, followed = PurePosixPath("/"), 0
    try:
        while waiting:
            name = waiting.pop()
            if name == "..":
                here = _into(here, name)
                at = at.parent
                continue
            target = _link_of(here, name)
            if target is not None:
                followed += 1
                if followed > _MOST_LINKS or not _may_be_trusted(here, name):
                    raise LinkError(str(at / name))
                waiting += reversed([one for one in PurePosixPath(target).parts if one != "/"])
                if target.startswith("/"):
                    os.close(here)
                    here, at = os.open("/", _FOLDER), PurePosixPath("/")
                continue
            if make:
                with suppress(FileExistsError):
                    os.mkdir(name, 0o700, dir_fd=here)
            here = _into(here, name)
            at /= name
        yield here
    finally:
        os.close(here)


def final(path: Path) -> Path:
    """Where a path leads, by links in its last piece that can be trusted. Raises LinkError, OSError."""
    for _ in range(_MOST_LINKS):
        with reached(path.parent) as folder:
            target = _link_of(folder, path.name)
            if target is None or not _may_be_trusted(folder, path.name):
                return path
        path = Path(os.path.normpath(path.parent / target))
    return path


def _into(here: int, name: str) -> int:
    """A folder in an open one, which is closed then."""
    opened = os.open(name, _FOLDER, dir_fd=here)
    os.close(here)
    return opened


def _link_of(folder: int, name: str) -> str | None:
    """Where a link leads; None where it is none, or not there."""
    try:
        return os.readlink(name, dir_fd=folder)
    except OSError:
        return None


def _may_be_trusted(folder: int, name: str) -> bool:
    """Whether nobody but the superuser and this user could have made a link that is in an open folder."""
    ours = {0, os.geteuid()}
    found = os.fstat(folder)
    if found.st_uid not in ours:
        return False
    if not found.st_mode & (stat.S_IWGRP | stat.S_IWOTH):
        return True
    sticky = bool(found.st_mode & stat.S_ISVTX)
    return sticky and os.stat(name, dir_fd=folder, follow_symlinks=False).st_uid in ours


def beside(name: str) -> str:
    """What a file is called while it is written: the same each time, so that one that was killed is written over."""
    return f".historon-{hashlib.sha256(os.fsencode(name)).hexdigest()[:16]}.coming"


class Below:
    """What is below a folder, by names with slashes; no link is followed. Raises LinkError, OSError."""

    def __init__(self, folder: Path, *, make: bool = False) -> None:
        """With `make` the folder is made where there is none."""
        self.folder = folder
        self._reaching = reached(folder, make=make)
        self._here = -1

    def __enter__(self) -> Self:
        self._here = self._reaching.__enter__()
        return self

    def __exit__(
        self, kind: type[BaseException] | None, raised: BaseException | None, trace: TracebackType | None
    ) -> None:
        self._reaching.__exit__(kind, raised, trace)

    def stat(self, name: str) -> os.stat_result | None:
        """What is there, as lstat(2) tells it; None for nothing."""
        try:
            with self.parent(name) as (folder, last):
                return os.stat(last, dir_fd=folder, follow_symlinks=False)
        except (FileNotFoundError, NotADirectoryError):
            return None

    def target(self, name: str) -> str:
        """Where a link leads."""
        with self.parent(name) as (folder, last):
            return os.readlink(last, dir_fd=folder)

    @contextmanager
    def opened(self, name: str) -> Iterator[BufferedReader]:
        """A file, for reading."""
        with self.parent(name) as (folder, last):
            file = os.open(last, os.O_RDONLY | os.O_NOFOLLOW | os.O_NONBLOCK | os.O_CLOEXEC, dir_fd=folder)
            with os.fdopen(file, "rb") as opened:
                yield opened

    def make_folder(self, name: str, mode: int = 0o700) -> None:
        """Make a folder, and those above it, where there are none."""
        with self.parent(name, make=True) as (folder, last), suppress(FileExistsError):
            os.mkdir(last, mode, dir_fd=folder)

    @contextmanager
    def folder_at(self, name: str, *, make: bool = False) -> Iterator[int]:
        """A folder below this one, open."""
        with self.parent(f"{name}/.", make=make) as (folder, _):
            yield folder

    @contextmanager
    def parent(self, name: str, *, make: bool = False) -> Iterator[tuple[int, str]]:
        """The open folder that a name is in, and the last piece of the name; with `make` it is made."""
        *above, last = name.split("/")
        here = os.dup(self._here)
        at = self.folder
        try:
            for piece in above:
                at /= piece
                if make:
                    with suppress(FileExistsError):
                        os.mkdir(piece, 0o700, dir_fd=here)
                here = self._step(here, piece, at)
            yield here, last
        finally:
            os.close(here)

    def _step(self, here: int, piece: str, at: Path) -> int:
        try:
            opened = os.open(piece, _FOLDER, dir_fd=here)
        except OSError as exc:
            if exc.errno in _LINKED and _link_of(here, piece) is not None:
                raise LinkError(str(at)) from exc
            raise
        os.close(here)
        return opened

    def write(self, name: str, pieces: Iterable[bytes], dress: Dress | None = None, *, over: bool = True) -> None:
        """A whole file, or none, on the disk when it returns; it takes its name, dressed, once it is written.

        FileExistsError when something has the name, unless it is written `over`.
        """
        with self.parent(name, make=True) as (folder, last):
            coming = beside(last)
            with suppress(FileNotFoundError):
                os.unlink(coming, dir_fd=folder)
            flags = os.O_WRONLY | os.O_CREAT | os.O_EXCL | os.O_NOFOLLOW | os.O_CLOEXEC
            try:
                with os.fdopen(os.open(coming, flags, 0o600, dir_fd=folder), "wb") as file:
                    file.writelines(pieces)
                    file.flush()
                    if dress is not None:
                        dress(file.fileno())
                    os.fsync(file.fileno())
                if over:
                    os.replace(coming, last, src_dir_fd=folder, dst_dir_fd=folder)
                else:  # unlike a rename, it fails when the name was taken in the meantime
                    os.link(coming, last, src_dir_fd=folder, dst_dir_fd=folder, follow_symlinks=False)
                os.fsync(folder)
            finally:
                with suppress(FileNotFoundError):
                    os.unlink(coming, dir_fd=folder)

    def clear(self, name: str) -> None:
        """Remove what is left of a file that was being written when whoever did so was killed."""
        with self.parent(name) as (folder, last), suppress(FileNotFoundError):
            os.unlink(beside(last), dir_fd=folder)

    def link(self, name: str, target: str) -> None:
        """A link, in the place of whatever link or file has the name."""
        with self.parent(name, make=True) as (folder, last):
            coming = beside(last)
            with suppress(FileNotFoundError):
                os.unlink(coming, dir_fd=folder)
            os.symlink(target, coming, dir_fd=folder)
            os.replace(coming, last, src_dir_fd=folder, dst_dir_fd=folder)

    def remove(self, name: str) -> None:
        """Remove a file, a link, or a folder that is empty."""
        with self.parent(name) as (folder, last):
            if stat.S_ISDIR(os.stat(last, dir_fd=folder, follow_symlinks=False).st_mode):
                os.rmdir(last, dir_fd=folder)
            else:
                os.unlink(last, dir_fd=folder)
