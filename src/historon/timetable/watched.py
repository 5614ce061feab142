"""The estate file, as a service watches it: what of it is in force."""

from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

from historon.estate import Estate, EstateError, read_estate
from historon.store import RETIRED, Store
from historon.timetable.acceptance import about_estate, estate_in_force
from historon.timetable.accepted import last_accepted
from historon.timetable.desk import LOG, Desk

__all__ = ["WatchedFile"]

_Seen = tuple[tuple[str, int, int], ...]


class WatchedFile:
    """An estate file.

    `refusal` is what was wrong with it at the start: the last accepted one was taken instead.
    """

    def __init__(self, file: Path) -> None:
        self.file = file
        self.refusal: EstateError | None = None
        self._offered: Estate | None = None  # by the file, whether in force or not
        self._seen: tuple[_Seen, int] = ((), 0)

    def read_first(self, open_store: Callable[[Estate], Store]) -> Estate:
        """Read it, or take the last accepted one where it is invalid. EstateError where there is none."""
        self._seen = (_state_of(self.file), 0)
        try:
            return read_estate(self.file)
        except EstateError as exc:
            accepted = last_accepted(self.file, open_store)
            if accepted is None:
                raise
            LOG.error("the estate file is invalid; the last accepted one is used: %s", exc)
            self.refusal = exc
            return _instead(accepted, exc)

    def accept_first(self, desk: Desk) -> None:
        """Put what was read at the start into force, or report what is wrong with it."""
        if self.refusal is not None:
            desk.watch("estate", about_estate(str(self.refusal), desk.clock()))
        else:
            self._accept(desk, desk.estate)

    def look(self, desk: Desk) -> bool:
        """Take up a changed file; returns whether it is in force now.

        One that is invalid is reported, and the previous one stays in force.
        """
        seen = (_state_of(self.file), self._retired(desk))
        if seen == self._seen:
            return False
        self._seen = seen
        try:
            estate = read_estate(self.file)
        except EstateError as exc:
            LOG.error("the estate file is invalid; the previous settings stay in effect: %s", exc)
            desk.watch("estate", about_estate(str(exc), desk.clock()))
            desk.estate = desk.notifier.estate = _instead(desk.estate, exc)
            desk.monitor.soon()
            return False
        if estate.settings.store != desk.estate.settings.store:
            LOG.error("the estate file names another store: restart the service for it")
            return False
        self._accept(desk, estate)
        desk.monitor.soon()
        return True

    def _accept(self, desk: Desk, estate: Estate) -> None:
        """Put an estate into force, unless too many sources are missing from it."""
        self._offered = estate
        desk.estate = desk.notifier.estate = estate_in_force(estate, desk.store, desk.notifier, desk.clock())
        if desk.estate is not estate:
            LOG.error("sources are missing from the estate file; the previous one stays in effect")

    def _retired(self, desk: Desk) -> int:
        """How many sources a person retired, while that may put a new estate file into force."""
        return 0 if self._offered is desk.estate else len(desk.store.recall_all(RETIRED))


def _instead(estate: Estate, refusal: EstateError) -> Estate:
    """The estate that stays in force while the file is invalid."""
    first = str(refusal).splitlines()[0]
    return replace(estate, instead=("estate-refused", f"{first}; the previous settings stay in effect"))


def _state_of(file: Path) -> _Seen:
    """By what it is known that the estate file, or a file beside it that it may name, has changed."""
    found = []
    for one in sorted({file, *file.parent.glob("*.csv"), *file.parent.glob("*/*.toml")}):
        try:
            stat = one.stat()
        except OSError:
            continue
        found.append((str(one), stat.st_mtime_ns, stat.st_size))
    return tuple(found)
