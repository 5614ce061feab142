"""Which versions retention would remove, and by which rule each of the others stays. Nothing is removed here."""

from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from datetime import datetime, tzinfo

from historon.base.quantities import size_text
from historon.estate import Estate, Retention, Source
from historon.retention.budgets import within_budgets
from historon.retention.verdicts import Verdict
from historon.store import State, Store, Version

__all__ = ["plan", "plans_of"]

# What is the same for two instants of one period, in the estate's time zone; weeks are those of ISO 8601.
_PERIODS: dict[str, Callable[[datetime], tuple[int, ...]]] = {
    "hour": lambda at: (at.year, at.month, at.day, at.hour, int((at.utcoffset() or at.resolution).total_seconds())),
    "day": lambda at: (at.year, at.month, at.day),
    "week": lambda at: tuple(at.isocalendar()[:2]),
    "month": lambda at: (at.year, at.month),
    "year": lambda at: (at.year,),
}


def plan(
    versions: Sequence[Version], retention: Retention, *, now: datetime, zone: tzinfo, name: str = ""
) -> list[Verdict]:
    """A verdict for every version of one source, in their order. The last good and held versions always stay.

    `name` is what the retention is called.
    """
    always = dict(reversed(list(_always(versions, retention))))
    rules = dict(reversed(list(_staying(versions, retention, now, zone))))
    if retention.at_most is not None:
        for number in _beyond(versions, retention.at_most, always, rules):
            del rules[number]
    return [
        Verdict(one, always.get(one.number) or rules.get(one.number), name, one.number in always) for one in versions
    ]


def plans_of(
    estate: Estate, sources: Iterable[Source], store: Store, now: datetime, retention: str | None = None
) -> dict[str, list[Verdict]]:
    """The plans of these sources, by name, by their own retention or this one; without those that keep everything.

    What a budget is about that others share is calculated over all of them.
    """
    wanted = {source.name for source in sources}
    found = {}
    for source in estate.sources.values():
        if source.name not in wanted and not estate.budgets:
            continue
        name = retention or source.retention
        if name:
            versions, rules = store.versions(source.name), estate.retention[name]
            found[source.name] = plan(versions, rules, now=now, zone=estate.zone, name=name)
    trimmed = within_budgets(estate, found, store, retention)
    return {name: verdicts for name, verdicts in trimmed.items() if name in wanted}


def _always(versions: Sequence[Version], retention: Retention) -> Iterator[tuple[int, str]]:
    """What stays whatever the other rules say."""
    good = [version for version in versions if version.good]
    if good:
        yield good[-1].number, "the last good version"
    yield from ((version.number, f"held: {version.held}") for version in versions if version.held is not None)
    changes = [version for version in good if version.state is State.GOOD]
    words = f"one of the last {retention.at_least} that changed (noise ignored)"
    yield from ((version.number, words) for version in changes[-retention.at_least :])


def _staying(
    versions: Sequence[Version], retention: Retention, now: datetime, zone: tzinfo
) -> Iterator[tuple[int, str]]:
    good = telling = [version for version in versions if version.good]
    if retention.noise is not None:
        since = now - retention.noise
        good = [version for version in good if version.state is State.GOOD or version.at >= since]
        # What stands for a day must not go before the day's own time is over, so it is never noise.
        telling = [version for version in good if version.state is State.GOOD]
    if not retention.spans and retention.at_most is None and retention.size is not None:
        yield from ((version.number, f"within {size_text(retention.size)}") for version in good)
    elif not retention.spans:
        yield from ((version.number, f"one of the newest {retention.at_most}") for version in good)
    if retention.all:
        limit = now - retention.all
        yield from ((version.number, f"all for {retention.all}") for version in good if version.at >= limit)
    for period, key in _PERIODS.items():
        span = getattr(retention, period)
        if span:
            recent = [version for version in telling if version.at >= now - span]
            for version in _last_of_each(recent, lambda at, key=key: key(at.astimezone(zone))):  # type: ignore[misc]
                yield version.number, f"last of its {period}, for {span}"
    for version in versions:
        if not version.good and version.at >= now - retention.suspect:
            yield version.number, f"suspect, for {retention.suspect}"


def _beyond(
    versions: Sequence[Version], at_most: int, always: Mapping[int, str], rules: Mapping[int, str]
) -> Iterator[int]:
    """Of the good versions that would stay, the oldest that are more than there may be."""
    staying = [one.number for one in versions if one.good and (one.number in always or one.number in rules)]
    surplus = len(staying) - at_most
    yield from [one for one in staying if one not in always][: max(0, surplus)]


def _last_of_each(versions: Iterable[Version], key: Callable[[datetime], tuple[int, ...]]) -> list[Version]:
    return list({key(version.at): version for version in versions}.values())
