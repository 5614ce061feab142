"""The one family of errors, and the exit codes that the command line gives them."""

import os
from collections.abc import Iterator
from enum import IntEnum
from typing import ClassVar

__all__ = [
    "ExitCode",
    "HistoronError",
    "OutsideError",
    "RefusedError",
    "StoreError",
    "UsageError",
    "causes_of",
    "where_raised",
]


class ExitCode(IntEnum):
    """What a finished command says to the program that called it; documented in docs/exit-codes.md."""

    WELL = 0
    FOUND = 1
    USAGE = 2
    SOURCES = 3
    ESTATE = 4
    STORE = 5
    OUTSIDE = 6
    INTERNAL = 70
    INTERRUPTED = 130


class HistoronError(Exception):
    """Something a person has to know: place and problem in the message, the next step in the hint."""

    exit_code: ClassVar[ExitCode] = ExitCode.INTERNAL

    def __init__(self, message: str, *, hint: str = "") -> None:
        super().__init__(message)
        self.message = message
        self.hint = hint

    def __str__(self) -> str:
        return f"{self.message} ({self.hint})" if self.hint else self.message


class UsageError(HistoronError):
    """The command was asked for something that is not there or makes no sense."""

    exit_code = ExitCode.USAGE


class StoreError(HistoronError):
    """The store cannot be opened, read or written."""

    exit_code = ExitCode.STORE


class RefusedError(StoreError):
    """A copy and the store contradict each other: the copy was not changed, and a person has to look first."""


class OutsideError(HistoronError):
    """Something around Historon is in the way: a folder, a file mode, a mail relay."""

    exit_code = ExitCode.OUTSIDE


def causes_of(exc: BaseException | None) -> Iterator[BaseException]:
    """An exception, and one after the other those that led to it; also those of a group (PEP 654), each for itself."""
    while exc is not None:
        yield exc
        if isinstance(exc, BaseExceptionGroup):
            for one in exc.exceptions:
                yield from causes_of(one)
        exc = exc.__cause__ or exc.__context__


def where_raised(exc: BaseException) -> str:
    """An exception that nobody foresaw, as a report needs it: its kind, and where it was raised. Never its text."""
    place = exc.__traceback__
    while place and place.tb_next:
        place = place.tb_next
    where = f"{os.path.basename(place.tb_frame.f_code.co_filename)}:{place.tb_lineno}" if place else "?"
    return f"{type(exc).__name__} at {where}"
