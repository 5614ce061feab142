"""The instants of a timetable in UTC, calculated without looking at a clock.

Times of day are those of the estate's zone. One that does not exist on the day that clocks go forward is as much later
as they go; one that exists twice, on the day that they go back, is meant the first time. Either way it comes once.
"""

from collections.abc import Iterator, Sequence
from datetime import UTC, date, datetime, timedelta
from itertools import count
from zoneinfo import ZoneInfo

from historon.estate.timetables import Hours, Timetable

__all__ = ["after_hours", "in_hours", "instants", "next_instants"]

_DAY = timedelta(days=1)
_EPOCH = date(2000, 1, 1)
_WEEKDAYS = ("mon", "tue", "wed", "thu", "fri", "sat", "sun")


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
        if timetable.every is None:
            times = sorted(_of_day(timetable, zone, day))
        else:
            times = sorted(_within(timetable.every, zone, day))
        for at in times:
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
    if timetable.at:
        return [datetime.combine(day, at, zone).astimezone(UTC) for at in timetable.at.times]
    return []


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


def after_hours(at: datetime, quiet: Sequence[Hours], zone: ZoneInfo) -> datetime:
    """The instant itself, or the end of the hours that it falls into."""
    for _ in range(len(quiet) + 1):
        local = at.astimezone(zone)
        hours = next((one for one in quiet if one.hold(local.time())), None)
        if hours is None:
            break
        day = local.date() + _DAY if hours.end <= local.time() else local.date()
        at = datetime.combine(day, hours.end, zone).astimezone(UTC)
    return at


def in_hours(at: datetime, hours: Sequence[Hours], zone: ZoneInfo) -> datetime:
    """The instant itself, where it falls into these hours or there are none; otherwise when the next of them begin."""
    local = at.astimezone(zone)
    if not hours or any(one.hold(local.time()) for one in hours):
        return at
    days = [local.date() + _DAY if one.begin <= local.time() else local.date() for one in hours]
    begins = [datetime.combine(day, one.begin, zone) for day, one in zip(days, hours, strict=True)]
    return min(begins).astimezone(UTC)


def next_instants(timetable: Timetable, zone: ZoneInfo, after: datetime, number: int) -> Sequence[datetime]:
    """The next few."""
    found = instants(timetable, zone, after)
    return [next(found) for _ in range(number)]
