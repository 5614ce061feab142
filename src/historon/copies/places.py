"""What copies share: plain names below their place, what a retention of their own keeps, and a pace for the line."""

import threading
import time
from collections.abc import Iterator, Mapping, Sequence
from pathlib import PurePosixPath
from typing import TYPE_CHECKING

from historon.base.errors import StoreError
from historon.estate import Estate
from historon.store import Removal, Version

if TYPE_CHECKING:
    from historon.retention import Verdict

__all__ = ["Pace", "check_plain_name", "left_out", "left_out_rule", "plan_by_newest"]


def check_plain_name(name: str) -> None:
    """StoreError unless a name is that of something below a folder."""
    path = PurePosixPath(name)
    if not path.parts or path.is_absolute() or ".." in path.parts or "\0" in name:
        raise StoreError(f"the copy has a file outside its own folder: {name!r}", hint="nothing was written there")


def plan_by_newest(estate: Estate, retention: str, versions: Sequence[Version]) -> "list[Verdict]":
    """What a copy's own retention says of a source's versions, of which there is one at least.

    By the newest version, not by a clock: what is kept depends on the versions alone.
    """
    from historon.retention import plan  # imported where it is used: any command reads what copies there are

    return plan(versions, estate.retention[retention], now=versions[-1].at, zone=estate.zone)


def left_out_rule(retention: str) -> str:
    """By what a version is on record, in a copy, as removed that the copy's own retention does not let stay."""
    return f"not in this copy ({retention})"


def left_out(
    estate: Estate, retention: str, versions: Mapping[str, Sequence[Version]]
) -> Iterator[tuple[list[Version], Removal]]:
    """The versions of each source that a copy's own retention does not let stay, and how that is recorded there."""
    for source, known in versions.items():
        if known:
            going = [one.version for one in plan_by_newest(estate, retention, known) if not one.stays]
            yield going, Removal(known[-1].at, {source: left_out_rule(retention)})


class Pace:
    """Lets no more bytes through in a second than are allowed; None for as many as the line takes."""

    def __init__(self, rate: int | None) -> None:
        self._rate = rate
        self._began = time.monotonic()
        self._spent = 0
        self._lock = threading.Lock()
        self._never = threading.Event()

    def due_in(self, count: int) -> float:
        """Count this many more bytes; returns how many seconds to wait before they may go."""
        if self._rate is None:
            return 0.0
        with self._lock:
            self._spent += count
            return max(0.0, self._began + self._spent / self._rate - time.monotonic())

    def spend(self, count: int) -> None:
        """Wait until this many more bytes may go."""
        wait = self.due_in(count)
        if wait:
            self._never.wait(wait)
