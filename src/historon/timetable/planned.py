"""What is due next, and what will not go well about it."""

from collections import Counter, defaultdict
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta
from heapq import merge
from itertools import islice, pairwise, takewhile

from historon.estate import Estate, Source, after_hours, describe, instants
from historon.timetable.due import due_instants

__all__ = ["Due", "Load", "agenda", "load_by_hour", "warnings_of"]

_HOUR = timedelta(hours=1)
_FAR = timedelta(days=2 * 366)
_MOST = 20_000  # instants that are looked at: those of two years, or fewer where it is every few minutes
_MOST_OF_AN_HOUR = 0.8
_NAMED = 5  # sources that are named in one warning
_USUAL = timedelta(seconds=10)  # what a source takes as long as nobody knows


@dataclass(frozen=True, order=True)
class Due:
    """A source is due at this instant (UTC), by this timetable."""

    at: datetime
    source: str
    timetable: str


@dataclass(frozen=True)
class Load:
    """One hour: how many sources begin in it, and how much of what can be done at once they will take, 1 being all."""

    begin: datetime
    sources: int
    share: float


def agenda(estate: Estate, sources: Sequence[Source], since: datetime, until: datetime) -> Iterator[Due]:
    """All that is due after one instant and up to another, in order. Sources that are skipped are left out."""
    found = [_of_source(estate, source, since, until) for source in sources if not estate.is_skipped(source, since)]
    yield from merge(*found)


def _of_source(estate: Estate, source: Source, since: datetime, until: datetime) -> Iterator[Due]:
    for at, name in takewhile(lambda due: due[0] <= until, due_instants(estate, source, since)):
        yield Due(at, source.name, name)


def load_by_hour(
    estate: Estate, dues: Sequence[Due], took: Mapping[str, timedelta], since: datetime, until: datetime
) -> list[Load]:
    """The hours from one instant to another, also the empty ones; `took` is how long sources took the last time."""
    counts: Counter[datetime] = Counter()
    busy: defaultdict[datetime, timedelta] = defaultdict(timedelta)
    for due in dues:
        hour = _hour(due.at, estate)
        counts[hour] += 1
        busy[hour] += took.get(due.source, _USUAL)
    room = _HOUR * estate.settings.at_once
    hours = []
    at = _hour(since, estate)
    while at <= until:
        hours.append(Load(at, counts[at], busy[at] / room))
        at += _HOUR
    return hours


def _hour(at: datetime, estate: Estate) -> datetime:
    local = at.astimezone(estate.zone)
    return at - timedelta(minutes=local.minute, seconds=local.second, microseconds=local.microsecond)


def _too_seldom(estate: Estate, sources: Sequence[Source], since: datetime) -> Iterator[str]:
    """Sources whose timetables have a gap in the next two years that is longer than their max_age."""
    gaps: dict[tuple[str, ...], tuple[timedelta, datetime]] = {}
    late: defaultdict[str, list[str]] = defaultdict(list)
    for source in sources:
        if not source.timetables or source.max_age is None or estate.is_skipped(source, since):
            continue
        if source.timetables not in gaps:
            gaps[source.timetables] = _longest_gap(estate, source.timetables, since)
        gap, after = gaps[source.timetables]
        if gap > source.max_age:
            day = after.astimezone(estate.zone).date()
            words = f"not due for {describe(gap)} after {day}, and max_age is {source.max_age}"
            late[words].append(source.name)
    for words, names in late.items():
        more = f" and {len(names) - _NAMED} more" if len(names) > _NAMED else ""
        yield f"{', '.join(names[:_NAMED])}{more}: {words} (shorten the interval, or raise max_age)"


def _longest_gap(estate: Estate, timetables: Sequence[str], since: datetime) -> tuple[timedelta, datetime]:
    """The longest time in the next two years in which these timetables name no instant, and when it begins."""
    found = merge(*(_out_of_quiet(estate, name, since) for name in timetables))
    coming = takewhile(lambda at: at <= since + _FAR, islice(found, _MOST))
    return max(((later - earlier, earlier) for earlier, later in pairwise(coming)), default=(timedelta(), since))


def _out_of_quiet(estate: Estate, name: str, since: datetime) -> Iterator[datetime]:
    timetable = estate.timetables[name]
    return (after_hours(at, timetable.quiet, estate.zone) for at in instants(timetable, estate.zone, since))


def warnings_of(
    estate: Estate, sources: Sequence[Source], dues: Sequence[Due], loads: Sequence[Load], took: Mapping[str, timedelta]
) -> Iterator[str]:
    """What will not go well: hours that are too full, intervals that are too short, a max_age that cannot be met."""
    at_once = estate.settings.at_once
    for load in loads:
        if load.share > _MOST_OF_AN_HOUR:
            when = f"{load.begin.astimezone(estate.zone):%a %H:%M}"
            full = f"{load.sources} sources fill {load.share:.0%} of the hour at {at_once} at once"
            yield f"{when}: {full} (spread them, or raise at_once)"
    times: defaultdict[str, list[datetime]] = defaultdict(list)
    for due in dues:
        times[due.source].append(due.at)
    for source in sources:
        gaps = [later - earlier for earlier, later in pairwise(times[source.name])]
        if gaps and took.get(source.name, timedelta()) > min(gaps):
            yield f"{source.name}: takes longer than the time until it is due again (lengthen the interval)"
    begin = loads[0].begin if loads else dues[0].at
    yield from _too_seldom(estate, sources, begin)
    never = [source.name for source in sources if not source.timetables and not estate.is_skipped(source, begin)]
    if never:
        more = f" and {len(never) - _NAMED} more" if len(never) > _NAMED else ""
        yield f"never due: {', '.join(never[:_NAMED])}{more} (give them a timetable)"
