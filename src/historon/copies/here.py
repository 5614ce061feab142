"""A folder of this machine, as copies use one: files below it, to which no link leads."""

import os
from collections.abc import Iterable, Iterator
from contextlib import contextmanager, suppress
from pathlib import Path, PurePosixPath
from types import TracebackType
from typing import Protocol, Self

from historon.base.disk import sync_folder, write_through
from historon.base.errors import OutsideError, StoreError

__all__ = ["Folder", "FolderHere"]

_COMING = ".historon.coming"  # the file that is being written, until it takes its name
_PIECE = 2**20


class Folder(Protocol):
    """A folder that a copy is in, wherever it is. Names are below it; StoreError and OutsideError are in words."""

    place: str

    def files(self) -> dict[str, int]:
        """The files below the folder with their sizes; to none of them a link leads."""

    def read(self, name: str) -> Iterator[bytes]:
        """What a file holds, a piece at a time. FileNotFoundError when there is none."""

    def put(self, name: str, pieces: Iterable[bytes]) -> None:
        """A whole file, or none: it takes its name once it is written."""

    def link(self, there: str, name: str) -> bool:
        """Give a file a second name; False where that cannot be."""

    def settle(self) -> None:
        """Once it returns, files that were put or linked have their names whatever happens.

        Of a server only its programs know.
        """

    def obstacle(self, name: str) -> str:
        """What has this name already, or is a link on the way to it, in words; empty for nothing."""

    def remove(self, name: str) -> None:
        """Remove a file, and the folders that are empty then."""

    def __enter__(self) -> Self: ...

    def __exit__(self, *_: type[BaseException] | BaseException | TracebackType | None) -> None: ...


class FolderHere(Folder):
    """A folder of this machine; `make` says whether it is made where there is none."""

    def __init__(self, path: Path, *, make: bool) -> None:
        self.place = str(path)
        self._path = path
        self._make = make
        self._unsettled: set[Path] = set()  # folders with names that may not be on the disk yet

    def __enter__(self) -> Self:
        with self._told_of():
            if self._make:
                self._path.mkdir(mode=0o700, exist_ok=True)
                (self._path / _COMING).unlink(missing_ok=True)  # of an update that died
        return self

    def __exit__(self, *_: type[BaseException] | BaseException | TracebackType | None) -> None:
        """Nothing is open."""

    def files(self) -> dict[str, int]:
        found: dict[str, int] = {}
        waiting = [""]
        with self._told_of():
            while waiting:
                below = waiting.pop()
                with os.scandir(f"{self._path}/{below}") as entries:
                    for entry in entries:
                        if entry.is_dir(follow_symlinks=False):
                            waiting.append(f"{below}{entry.name}/")
                        elif entry.is_file(follow_symlinks=False):
                            found[below + entry.name] = entry.stat(follow_symlinks=False).st_size
        return found

    def read(self, name: str) -> Iterator[bytes]:
        if not self._is_plain(name):
            raise FileNotFoundError(f"{self.place}: there is no file {name}")
        try:
            with (self._path / name).open("rb") as opened:
                while piece := opened.read(_PIECE):
                    yield piece
        except FileNotFoundError:
            raise
        except OSError as exc:
            raise StoreError(f"{self.place}: {name} cannot be read: {exc.strerror}") from exc

    def put(self, name: str, pieces: Iterable[bytes]) -> None:
        coming = self._path / _COMING
        with self._told_of():
            self._make_folders((self._path / name).parent)
            write_through(coming, pieces)
            coming.replace(self._path / name)

    def link(self, there: str, name: str) -> bool:
        coming = self._path / _COMING
        with self._told_of():
            self._make_folders((self._path / name).parent)
            coming.unlink(missing_ok=True)
            try:
                os.link(self._path / there, coming)
            except OSError:
                return False  # the file system has no links
            coming.replace(self._path / name)
        return True

    def settle(self) -> None:
        with self._told_of():
            for folder in sorted(self._unsettled):
                sync_folder(folder)
        self._unsettled.clear()

    def obstacle(self, name: str) -> str:
        at = self._path
        for part in PurePosixPath(name).parts:
            at /= part
            if at.is_symlink():
                return f"{at} is a link"
        return f"{at} already exists" if at.exists() else ""

    def remove(self, name: str) -> None:
        target = self._path / name
        with self._told_of():
            target.unlink()
        for folder in target.parents:
            if folder == self._path:
                return
            try:
                folder.rmdir()
            except OSError:
                return  # something else is in it, or it is gone already

    def _is_plain(self, name: str) -> bool:
        file = self._path / name
        ways = (file, *file.parents[: len(PurePosixPath(name).parts) - 1])
        return file.is_file() and not any(one.is_symlink() for one in ways)

    def _make_folders(self, folder: Path) -> None:
        """Folders below the copy's own; none is made, or gone through, by way of a link."""
        at = self._path
        for part in folder.relative_to(self._path).parts:
            at /= part
            if at.is_symlink():
                raise OutsideError(f"{at} is a link, and is not Historon's", hint="move it away")
            with suppress(FileExistsError):
                at.mkdir(mode=0o700)
                self._unsettled.add(at.parent)
        self._unsettled.add(folder)

    @contextmanager
    def _told_of(self) -> Iterator[None]:
        try:
            yield
        except OSError as exc:
            hint = "check that it is mounted and writable, and its free space. The copy is unchanged"
            raise StoreError(f"{exc.filename or self._path}: {exc.strerror}", hint=hint) from exc
