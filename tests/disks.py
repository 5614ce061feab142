"""A disk of its own that a test may fill up, or make read-only: only root can mount one."""

import subprocess
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

import pytest

__all__ = ["mounted", "remount"]


@contextmanager
def mounted(place: Path, options: str) -> Iterator[Path]:
    """A disk in memory at a new folder; the test is skipped where this user may mount none."""
    place.mkdir()
    try:
        done = subprocess.run(["mount", "-t", "tmpfs", "-o", options, "none", place], check=False, capture_output=True)
    except FileNotFoundError:
        pytest.skip("this machine does not have mount")
    if done.returncode:
        pytest.skip("this user may not mount a disk")
    try:
        yield place
    finally:
        subprocess.run(["umount", "-l", place], check=True)


def remount(place: Path, options: str) -> None:
    """Give a mounted disk another size, or let nobody write to it."""
    subprocess.run(["mount", "-o", f"remount,{options}", place], check=True)
