"""Files and folders that are on the disk before anybody relies on them."""

import os
from collections.abc import Iterable
from pathlib import Path

__all__ = ["sync_folder", "write_through"]


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
