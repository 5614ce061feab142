"""Signs by which a file that was pushed counts as complete. A size that stands still proves nothing, and is none."""

import os
import re
import stat
from collections.abc import Callable, Mapping
from pathlib import Path
from typing import IO

from historon.collect.failures import CollectError
from historon.collect.transports.selecting import check_sum
from historon.store import Part

__all__ = ["incomplete"]

_MOST = 4096  # bytes of a companion that are read


def incomplete(file: Path, sign: str) -> str | None:
    """Why a file does not count as complete by this sign, such as `marker:{file}.done`; None when it does."""
    kind, _, place = sign.partition(":")
    try:
        return _SIGNS[kind](file, place)
    except OSError as exc:
        return f"{exc.filename}: {exc.strerror}"


def _renamed(file: Path, place: str) -> str | None:
    """It got its name when it was complete."""
    return None


def _companion(file: Path, place: str) -> tuple[str, bytes | None]:
    """The name of a file beside another, and how it begins; None when it is not there, or older than that one.

    It is opened only if it is a regular file, no link is followed, and no more than a few kilobytes are read.
    """
    beside = file.with_name((place or "{file}.done").replace("{file}", file.name))
    try:
        opened = os.open(beside, os.O_RDONLY | os.O_NONBLOCK | os.O_NOFOLLOW)
    except FileNotFoundError:
        return beside.name, None
    try:
        found = os.fstat(opened)
        if not stat.S_ISREG(found.st_mode):
            raise OSError(0, "is not a regular file", str(beside))
        # One that was left from an earlier export of this name says nothing about the next.
        return beside.name, os.read(opened, _MOST) if found.st_mtime_ns >= file.stat().st_mtime_ns else None
    finally:
        os.close(opened)


def _opened(file: Path) -> IO[bytes]:
    """The file itself, which may have become something else since it was listed: no link, and nothing that waits."""
    opened = open(os.open(file, os.O_RDONLY | os.O_NONBLOCK | os.O_NOFOLLOW), "rb")  # noqa: SIM115 (the caller closes it)
    if not stat.S_ISREG(os.fstat(opened.fileno()).st_mode):
        opened.close()
        raise OSError(0, "is not a regular file", str(file))
    return opened


def _marker(file: Path, place: str) -> str | None:
    name, content = _companion(file, place)
    if content is not None:
        return None
    return f"marker {name} is missing or older than the file"


def _announced_checksum(file: Path, place: str) -> str | None:
    name, content = _companion(file, place)
    if content is None:
        return f"its checksum {name} is missing or older than the file"
    try:
        with _opened(file) as opened:  # a piece at a time: it may be large
            part = Part(file.name, spool=opened, spooled=(file.stat().st_size, b""))
            check_sum(part, content.decode("utf-8", "replace"), file.name)
    except CollectError as exc:
        return exc.message
    return None


def _announced_size(file: Path, place: str) -> str | None:
    name, content = _companion(file, place)
    if content is None:
        return f"its size in {name} is missing or older than the file"
    found = re.search(rb"\d{1,15}", content)
    size = file.stat().st_size
    if found is None:
        return f"it has {size} bytes, and the expected size is unknown"
    return None if int(found[0]) == size else f"it has {size} bytes, expected are {found[0].decode()}"


def _ends(file: Path, place: str) -> str | None:
    with _opened(file) as opened:
        opened.seek(max(0, file.stat().st_size - 2**16))
        last = opened.read().rstrip().rpartition(b"\n")[2].strip().decode("utf-8", "replace")
    return None if last == place.strip() else f'it ends with "{last[:60]}"'


def _format(file: Path, place: str) -> str | None:
    """Whether it is a whole file of its format."""
    from historon.inspection import look_into

    with _opened(file) as opened:
        look = look_into(file.name, opened, place)
    return look.doubt or look.unknown or None


_SIGNS: Mapping[str, Callable[[Path, str], str | None]] = {
    "renamed": _renamed,
    "marker": _marker,
    "checksum": _announced_checksum,
    "size": _announced_size,
    "ends": _ends,
    "format": _format,
}
