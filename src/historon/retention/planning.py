"""Which versions retention would remove, and by which rule each of the others stays. Nothing is removed here."""

from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import dataclass
from datetime import datetime, tzinfo

from historon.estate import Retention
from historon.store import State, Version

__all__ = ["Verdict", "plan"]

# What is the same for two instants of one period, in the estate's time zone; weeks are those of ISO 8601.
_PERIODS: dict[str, Callable[[datetime], tuple[int, ...]]] = {
    "hour": lambda at: (at.year, at.month, at.day, at.hour, int((at.utcoffset() or at.resolution).total_seconds())),
    "day": lambda at: (at.year, at.month, at.day),
    "week": lambda at: tuple(at.isocalendar()[:2]),
    "month": lambda at: (at.year, at.month),
    "year": lambda at: (at.year,),
}


@dataclass(frozen=True)
class Verdict:
    """What retention says of a version: `rule` is why it stays, and None when it would be removed."""

    version: Version
    rule: str | None

    @property
    def stays(self) -> bool:
        """Whether the version stays."""
        return self.rule is not None


def plan(versions: Sequence[Version], retention: Retention, *, now: datetime, zone: tzinfo) -> list[Verdict]:
    """A verdict for every version of one source, in their order. The last good and held versions always stay."""
    rules: dict[int, str] = {}
    for number, rule in _staying(versions, retention, now, zone):
        rules.setdefault(number, rule)
    return [Verdict(version, rules.get(version.number)) for version in versions]


def _staying(
    versions: Sequence[Version], retention: Retention, now: datetime, zone: tzinfo
) -> Iterator[tuple[int, str]]:
    good = [version for version in versions if version.good]
    if good:
        yield good[-1].number, "the last good version"
    yield from ((version.number, f"held: {version.held}") for version in versions if version.held is not None)
    if retention.all:
        limit = now - retention.all
        yield from ((version.number, f"all for {retention.all}") for version in good if version.at >= limit)
    for period, key in _PERIODS.items():
        if span := getattr(retention, period):
            recent = [version for version in good if version.at >= now - span]
            for version in _last_of_each(recent, lambda at, key=key: key(at.astimezone(zone))):  # type: ignore[misc]
                yield version.number, f"last of its {period}, for {span}"
    changes = [version for version in good if version.state is State.GOOD]
    yield from (
        (version.number, f"among the newest {retention.at_least} that changed")
        for version in changes[-retention.at_least :]
    )
    for version in versions:
        if not version.good and version.at >= now - retention.suspect:
            yield version.number, f"suspect, for {retention.suspect}"


def _last_of_each(versions: Iterable[Version], key: Callable[[datetime], tuple[int, ...]]) -> list[Version]:
    return list({key(version.at): version for version in versions}.values())
