"""A Purser file server: a program to pause and resume it, and a folder that is at rest only in between. Made up.

`purserctl pause`, `resume` and `state` work on the file `state` beside the tree; the faults stand in the file `fault`.
"""

import stat
from collections.abc import Mapping
from enum import StrEnum
from pathlib import Path

__all__ = ["Purser", "PurserFault"]

_PROGRAM = """#!/bin/sh
# The control program of a simulated file server.
cd "$(dirname "$0")" || exit 1
fault=$(cat fault 2>/dev/null)
case "$1" in
  pause)
    [ "$fault" = busy ] && { echo "purser: 3 transfers are running" >&2; exit 1; }
    echo paused > state; echo "purser is paused" ;;
  resume)
    [ "$fault" = stuck ] && { echo "purser: cannot resume: lock held" >&2; exit 1; }
    echo running > state; echo "purser is running" ;;
  state)
    [ "$fault" = dead ] && { echo "purser is paused"; exit 0; }
    echo "purser is $(cat state)" ;;
  idle)
    [ "$fault" = busy ] && { echo "3 transfers"; exit 0; }
    echo "idle" ;;
  *) echo "purserctl: pause, resume, state or idle" >&2; exit 2 ;;
esac
"""


class PurserFault(StrEnum):
    """What a file server can be made to do wrong."""

    STUCK = "stuck"  # does not resume
    DEAD = "dead"  # says that it resumes, and stays paused
    BUSY = "busy"  # never idle, and does not pause


class Purser:
    """One file server on this machine, in its folder: `purserctl`, and the tree `data`."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        (folder / "data").mkdir(parents=True, exist_ok=True)
        self.control = folder / "purserctl"
        self.control.write_text(_PROGRAM, encoding="utf-8")
        self.control.chmod(self.control.stat().st_mode | stat.S_IXUSR)
        (folder / "state").write_text("running\n", encoding="utf-8")

    def write(self, files: Mapping[str, str]) -> None:
        """Write files of the tree."""
        for name, text in files.items():
            file = self.folder / "data" / name
            file.parent.mkdir(parents=True, exist_ok=True)
            file.write_text(text, encoding="utf-8")

    def break_down(self, fault: PurserFault | None) -> None:
        """Switch a fault on, or all of them off."""
        (self.folder / "fault").write_text(fault or "", encoding="utf-8")

    @property
    def running(self) -> bool:
        """Whether it runs."""
        return (self.folder / "state").read_text(encoding="utf-8").strip() == "running"
