"""A process that ends, as by kill -9, just before or just after one of its steps that change what is on disk.

The steps are fsync, unlink, rename, link, mkdir, rmdir, the making of a file and the commit of a transaction, counted in the order in which
they come.
"""

import itertools
import os
import signal
import sqlite3
from collections.abc import Callable
from pathlib import Path
from typing import Any

__all__ = ["arm", "arm_clock", "watch_steps"]

_STEPS = ("fsync", "fdatasync", "unlink", "remove", "rename", "replace", "link", "symlink", "rmdir", "mkdir")


def arm(point: int, record: Path) -> None:
    """Die at this point: an even one is just before a step, an odd one just after it. What it was is on record."""
    numbers = itertools.count()

    def passing(what: str) -> None:
        number = next(numbers)
        if number == point:
            record.write_text(what)
            os.kill(os.getpid(), signal.SIGKILL)

    watch_steps(passing)


def watch_steps(passing: Callable[[str], None]) -> None:
    """Call `passing` just before and just after each step of this process."""
    for name in _STEPS:
        setattr(os, name, _counted(getattr(os, name), name, passing))
    opening = os.open
    creating = _counted(opening, "create", passing)
    os.open = lambda path, flags, *more, **named: (creating if flags & os.O_CREAT else opening)(
        path, flags, *more, **named
    )
    connect = sqlite3.connect

    def connecting(*arguments: Any, factory: type[sqlite3.Connection] = sqlite3.Connection, **more: Any) -> Any:
        class Connection(factory):  # type: ignore[misc, valid-type]
            def execute(self, sql: str, *more: Any) -> sqlite3.Cursor:
                if not sql.startswith("COMMIT"):
                    done: sqlite3.Cursor = super().execute(sql, *more)
                    return done
                passing("before commit")
                done = super().execute(sql, *more)
                passing("after commit")
                return done

        return connect(*arguments, factory=Connection, **more)

    sqlite3.connect = connecting


def _counted(step: Callable[..., Any], name: str, passing: Callable[[str], None]) -> Callable[..., Any]:
    def counted(*arguments: Any, **more: Any) -> Any:
        passing(f"before {name} {arguments[0]}")
        done = step(*arguments, **more)
        passing(f"after {name} {arguments[0]}")
        return done

    return counted


def arm_clock(seconds: float) -> None:
    """Die after so many seconds, wherever that is."""
    signal.signal(signal.SIGALRM, signal.SIG_DFL)  # which ends a process at once, like SIGKILL
    signal.setitimer(signal.ITIMER_REAL, seconds)
