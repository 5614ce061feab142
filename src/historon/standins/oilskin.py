"""An Oilskin access controller: it can only push its export into a folder. Made up.

It writes under the final name from the beginning, and a marker beside it at the end.
"""

import os
from collections.abc import Callable
from datetime import datetime
from enum import StrEnum
from pathlib import Path

__all__ = ["Oilskin", "OilskinFault"]


class OilskinFault(StrEnum):
    """What an access controller can be made to do wrong."""

    STALLS = "stops in the middle, and never writes its marker"
    SILENT = "pushes nothing"


class Oilskin:
    """One controller, with the folder it pushes into."""

    def __init__(self, name: str, folder: Path, doors: Callable[[], str]) -> None:
        self.name = name
        self.fault: OilskinFault | None = None
        self._folder = folder
        self._doors = doors

    def push(self, at: datetime) -> Path | None:
        """Push an export made at this instant; returns the file."""
        if self.fault is OilskinFault.SILENT:
            return None
        self._folder.mkdir(parents=True, exist_ok=True)
        content = self._doors()
        file = self._folder / f"{self.name}-{at:%Y%m%d-%H%M%S}.csv"
        if self.fault is OilskinFault.STALLS:
            _write(file, content[: len(content) // 2], at)
            return file
        _write(file, content, at)
        _write(file.with_name(f"{file.name}.done"), "", at)
        return file


def _write(file: Path, content: str, at: datetime) -> None:
    """A file that was last written to at this instant."""
    file.write_text(content, encoding="utf-8")
    os.utime(file, (at.timestamp(), at.timestamp()))
