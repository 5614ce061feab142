"""Files and folders that are on the disk before anybody relies on them, and folders that are gone when nobody does."""

import os
import stat
from collections.abc import Iterable, Iterator
from contextlib import contextmanager, suppress
from pathlib import Path

__all__ = ["clear_scratch", "scratch", "sync_folder", "write_through"]

_SCRATCH = "historon-scratch-"
_HELD = ".held"  # locked (flock(2)) for as long as somebody works there, also in another container


@contextmanager
def scratch() -> Iterator[Path]:
    """A folder for this process alone, which is gone afterwards. What killed ones left is removed first. OSError."""
    import fcntl  # these four are imported where they are used: every command imports this module
    import shutil
    import tempfile

    clear_scratch()
    base = Path(tempfile.mkdtemp(prefix=_SCRATCH))
    held = os.open(base / f"{_HELD}.new", os.O_RDWR | os.O_CREAT | os.O_CLOEXEC, 0o600)
    try:
        fcntl.flock(held, fcntl.LOCK_EX)
        (base / f"{_HELD}.new").rename(base / _HELD)  # nobody finds it unlocked
        (base / "here").mkdir(mode=0o700)
        yield base / "here"
    finally:
        shutil.rmtree(base, ignore_errors=True)
        os.close(held)


def clear_scratch() -> None:
    """Remove scratch folders of this user whose process is gone."""
    import shutil
    import tempfile

    with suppress(OSError), os.scandir(tempfile.gettempdir()) as entries:
        for entry in entries:
            if not entry.name.startswith(_SCRATCH):
                continue
            with suppress(OSError):
                found = entry.stat(follow_symlinks=False)
                if stat.S_ISDIR(found.st_mode) and found.st_uid == os.geteuid() and _is_left(Path(entry.path)):
                    shutil.rmtree(entry.path, ignore_errors=True)


def _is_left(folder: Path) -> bool:
    """Whether nobody works in a scratch folder any more. OSError where that cannot be known."""
    import fcntl

    held = os.open(folder / _HELD, os.O_RDWR | os.O_NOFOLLOW | os.O_CLOEXEC)
    try:
        fcntl.flock(held, fcntl.LOCK_EX | fcntl.LOCK_NB)
    except BlockingIOError:
        return False
    finally:
        os.close(held)
    return True


def write_through(path: Path, pieces: Iterable[bytes]) -> None:
    """Write a file, with mode 0600, and wait until it is on the disk. Nothing is left of it where that fails.

    It is meant to take another name then, in one step (rename(2)). What a process left under this one that died is
    removed. Raises OSError.
    """
    path.unlink(missing_ok=True)
    try:
        with open(os.open(path, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600), "wb") as file:
            file.writelines(pieces)
            file.flush()
            os.fsync(file.fileno())
    except BaseException:
        path.unlink(missing_ok=True)
        raise


def sync_folder(folder: Path) -> None:
    """Wait until the names in a folder are on the disk (fsync(2)). Raises OSError."""
    opened = os.open(folder, os.O_RDONLY)
    try:
        os.fsync(opened)
    finally:
        os.close(opened)
