"""What is due next, and what will not go well about it."""

from collections import Counter, defaultdict
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta
from heapq import merge
from itertools import pairwise, takewhile

from historon.estate import Estate, Source
from historon.timetable.due import due_instants

__all__ = ["Due", "Load", "agenda", "load_by_hour", "warnings_of"]

_HOUR = timedelta(hours=1)
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
    found = [_of_source(estate, source, since, until) for source in sources if source.skip is None]
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
        if gaps and source.max_age is not None and max(gaps) > source.max_age:
            seldom = f"is due too seldom for its max_age of {source.max_age}"
            yield f"{source.name}: {seldom} (shorten the interval, or raise max_age)"
    never = [source.name for source in sources if not source.timetables and source.skip is None]
    if never:
        more = f" and {len(never) - _NAMED} more" if len(never) > _NAMED else ""
        yield f"never due: {', '.join(never[:_NAMED])}{more} (give them a timetable)"
