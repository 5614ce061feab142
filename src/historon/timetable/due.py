"""When a source is due: the instants of its timetables, spread, and out of quiet hours and freezes."""

import hashlib
from collections.abc import Iterator
from datetime import datetime, timedelta
from heapq import merge
from itertools import takewhile

from historon.estate import Estate, Freeze, Source, Timetable, after_hours, instants

__all__ = ["due_instants", "frozen", "offset_of"]

_DAY = timedelta(days=1)
_FAR = timedelta(days=366 * 9)  # how far is looked ahead: the 29th of February may be eight years away


def _timetables_of(estate: Estate, source: Source) -> dict[str, Timetable]:
    """The timetables of a source, by name."""
    return {name: estate.timetables[name] for name in source.timetables}


def due_instants(estate: Estate, source: Source, after: datetime) -> Iterator[tuple[datetime, str]]:
    """When a source is due in the nine years after this instant, each with the name of the timetable.

    With the source's own share of the spread; quiet hours are waited for, and what falls into a freeze is left out.
    """
    found = [
        _of_timetable(estate, source, name, timetable, after)
        for name, timetable in _timetables_of(estate, source).items()
    ]
    for at, name in takewhile(lambda due: due[0] - after < _FAR, merge(*found)):
        if not frozen(estate, source, at):
            yield at, name


def _of_timetable(
    estate: Estate, source: Source, name: str, timetable: Timetable, after: datetime
) -> Iterator[tuple[datetime, str]]:
    offset = offset_of(source.name, name, timetable)
    last = None
    for at in instants(timetable, estate.zone, after - offset - _DAY):
        moved = after_hours(at + offset, timetable.quiet, estate.zone)
        if moved > after and moved != last:
            last = moved
            yield moved, name


def offset_of(source: str, name: str, timetable: Timetable) -> timedelta:
    """How much later than others a source begins: the same every time, spread evenly over sources."""
    digest = hashlib.sha256(f"{name}\n{source}".encode()).digest()
    share = int.from_bytes(digest[:6]) / 2**48
    return timedelta(seconds=int(timetable.spread.total_seconds() * share))


def frozen(estate: Estate, source: Source, at: datetime) -> Freeze | None:
    """The freeze that an instant falls into for a source; None for none."""
    day = at.astimezone(estate.zone).date()
    for freeze in estate.freezes:
        if freeze.from_ <= day <= freeze.to and source.has_labels(freeze.where):
            return freeze
    return None
