"""A disk that is full, or that can only be read: as SQLite and the file system would say it."""

import shutil
import sqlite3
import time
from collections.abc import Callable
from enum import Enum
from typing import Any

__all__ = ["Disk", "arm_disk"]


_SLOW_S = 0.02


class Disk(Enum):
    """How the disk behaves."""

    WELL = 0
    FULL = 1  # nothing more goes on it, and it says so beforehand
    FILLING = 2  # nothing more goes on it, though there was room a moment ago
    READ_ONLY = 3
    SLOW = 4  # all that is to reach it takes its time


def arm_disk(disk: Callable[[], Disk]) -> None:
    """Let this process meet the disk as it is at each moment."""
    usage = shutil.disk_usage

    def disk_usage(path: Any) -> Any:
        found = usage(path)
        return found._replace(free=0) if disk() is Disk.FULL else found._replace(free=50 * 10**9)

    shutil.disk_usage = disk_usage

    connect = sqlite3.connect

    def connecting(*arguments: Any, factory: type[sqlite3.Connection] = sqlite3.Connection, **more: Any) -> Any:
        class Connection(factory):  # type: ignore[misc, valid-type]
            met = Disk.WELL

            def execute(self, sql: str, *more: Any) -> sqlite3.Cursor:
                if sql.startswith("BEGIN") and (now := disk()) is not self.met:
                    self.met = now
                    pages = 1 if now in (Disk.FULL, Disk.FILLING) else 2**32 - 2  # not fewer than there are
                    super().execute(f"PRAGMA max_page_count = {pages}")
                    super().execute(f"PRAGMA query_only = {int(now is Disk.READ_ONLY)}")
                if sql.startswith("COMMIT") and self.met is Disk.SLOW:
                    time.sleep(_SLOW_S)
                done: sqlite3.Cursor = super().execute(sql, *more)
                return done

        return connect(*arguments, factory=Connection, **more)

    sqlite3.connect = connecting
