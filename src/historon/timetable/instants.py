"""When a source is due: instants in UTC, reckoned without looking at a clock.

Times of day are those of the estate's zone. One that does not exist on the day that clocks go forward is as much later
as they go; one that exists twice, on the day that they go back, is meant the first time. Either way it comes once.
"""

import hashlib
from collections.abc import Iterator, Sequence
from datetime import UTC, date, datetime, timedelta
from heapq import merge
from itertools import count, takewhile
from zoneinfo import ZoneInfo

from historon.estate import Estate, Freeze, Source, Timetable

__all__ = ["due_instants", "frozen", "instants", "next_instants", "offset_of"]

_DAY = timedelta(days=1)
_EPOCH = date(2000, 1, 1)
_WEEKDAYS = ("mon", "tue", "wed", "thu", "fri", "sat", "sun")
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
        moved = _after_quiet(at + offset, timetable, estate.zone)
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
    return next(
        (
            freeze for freeze in estate.freezes
            if freeze.from_ <= day <= freeze.to
            and all(source.labels.get(label) == value for label, value in freeze.where.items())
        ),
        None,
    )  # fmt: skip


def instants(timetable: Timetable, zone: ZoneInfo, after: datetime) -> Iterator[datetime]:
    """The instants of a timetable after this one, rising, without end; before any spread and quiet hours."""
    if timetable.cron is not None:
        from cronsim import CronSim

        yield from (at.astimezone(UTC) for at in CronSim(timetable.cron, after.astimezone(zone)))
        return
    if timetable.every is not None and _DAY % timetable.every:
        yield from _counted(timetable.every, zone, after)
        return
    last = after
    for day in _days(after.astimezone(zone).date() - _DAY):
        times = _of_day(timetable, zone, day) if timetable.every is None else _within(timetable.every, zone, day)
        for at in sorted(times):
            if at > last:
                last = at
                yield at


def _days(first: date) -> Iterator[date]:
    return (first + timedelta(days=number) for number in count())


def _of_day(timetable: Timetable, zone: ZoneInfo, day: date) -> list[datetime]:
    """The times of one day, when it is one of those that are meant."""
    if timetable.weekdays and _WEEKDAYS[day.weekday()] not in timetable.weekdays:
        return []
    from_end = day.day - ((day.replace(day=28) + timedelta(days=4)).replace(day=1) - _DAY).day - 1
    if timetable.days and day.day not in timetable.days and from_end not in timetable.days:
        return []
    return [datetime.combine(day, at, zone).astimezone(UTC) for at in timetable.at.times] if timetable.at else []


def _within(every: timedelta, zone: ZoneInfo, day: date) -> list[datetime]:
    """So often from midnight on, in real time; what would come just before the next midnight is left to that."""
    begin, end = (datetime.combine(one, datetime.min.time(), zone).astimezone(UTC) for one in (day, day + _DAY))
    found = []
    at = begin
    while at < end and (at == begin or end - at >= every / 2):
        found.append(at)
        at += every
    return found


def _counted(every: timedelta, zone: ZoneInfo, after: datetime) -> Iterator[datetime]:
    """So often in real time, counted from the first midnight of 2000."""
    begin = datetime.combine(_EPOCH, datetime.min.time(), zone).astimezone(UTC)
    number = (after - begin) // every + 1
    while True:
        yield begin + number * every
        number += 1


def _after_quiet(at: datetime, timetable: Timetable, zone: ZoneInfo) -> datetime:
    """The instant itself, or the end of the quiet hours that it falls into."""
    for _ in range(len(timetable.quiet) + 1):
        local = at.astimezone(zone)
        hours = next((one for one in timetable.quiet if one.hold(local.time())), None)
        if hours is None:
            break
        day = local.date() + _DAY if hours.end <= local.time() else local.date()
        at = datetime.combine(day, hours.end, zone).astimezone(UTC)
    return at


def next_instants(timetable: Timetable, zone: ZoneInfo, after: datetime, number: int) -> Sequence[datetime]:
    """The next few."""
    found = instants(timetable, zone, after)
    return [next(found) for _ in range(number)]
