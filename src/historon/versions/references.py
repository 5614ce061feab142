"""Names of versions: `SOURCE@WHEN`, where WHEN is a number, `latest`, `-1`, a date, an instant or an age."""

import re
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime, time, timedelta, tzinfo
from typing import Self

from historon.base.errors import UsageError
from historon.base.quantities import for_people
from historon.estate import Duration
from historon.store.interface import Store
from historon.store.records import Version

__all__ = ["Reference", "resolve"]

_FORMS = "latest, a number, -1, 2026-06-14, 2026-06-14T03:00 or an age such as 3d"


@dataclass(frozen=True)
class Reference:
    """A version as a person names it; a bare `SOURCE` has no `when` and means its latest."""

    source: str
    when: str = ""

    @classmethod
    def parse(cls, text: str) -> Self:
        """Split `SOURCE@WHEN`; UsageError when either is missing."""
        source, at, when = text.partition("@")
        if not source or (at and not when):
            raise UsageError(f'"{text}" does not name a version', hint=f"write SOURCE@WHEN, with WHEN {_FORMS}")
        return cls(source, when)

    def __str__(self) -> str:
        return f"{self.source}@{self.when or 'latest'}"


def resolve(store: Store, reference: Reference, *, now: datetime, zone: tzinfo) -> Version:
    """The version that is meant. Only a number can mean a suspect version. UsageError when there is none."""
    versions = store.versions(reference.source)
    good = [version for version in versions if version.good]
    if not versions or (not good and not reference.when.isdecimal()):
        raise UsageError(
            f"{reference}: {reference.source} has no {'good ' if versions else ''}version yet",
            hint=f"historon collect {reference.source}",
        )
    found = _find(reference, versions, good, now, zone)
    if found is None:
        first, last = versions[0], good[-1] if good else versions[-1]
        raise UsageError(
            (
                f"{reference}: no such version (the first is {first.source}@{first.number} of "
                f"{for_people(first.at, zone, named=True)}, the latest @{last.number})"
            ),
            hint=f"historon versions {reference.source}",
        )
    return found


def _find(
    reference: Reference, versions: Sequence[Version], good: Sequence[Version], now: datetime, zone: tzinfo
) -> Version | None:
    when = reference.when or "latest"
    if when == "latest":
        return good[-1]
    if when.isdecimal():
        return next((version for version in versions if version.number == int(when)), None)
    if re.fullmatch(r"-\d+", when):
        back = int(when[1:])
        return good[-1 - back] if back < len(good) else None
    moment = _moment(reference, when, now, zone)
    return next((version for version in reversed(good) if version.at <= moment), None)


def _moment(reference: Reference, when: str, now: datetime, zone: tzinfo) -> datetime:
    """The instant that is asked about; a date means its end, in the estate's time zone unless one is given."""
    try:
        if re.fullmatch(r"\d{4}-\d\d-\d\d", when):
            return datetime.combine(datetime.fromisoformat(when), time.max, zone)
        if re.match(r"\d{4}-\d\d-\d\dT", when):
            written = datetime.fromisoformat(when)
            # Written to the minute, the whole minute is meant; to the second, the whole second.
            slack = timedelta(minutes=1) if when.count(":") < 2 else timedelta(seconds=1)
            moment = written if written.tzinfo else written.replace(tzinfo=zone)
            if written.microsecond:
                return moment
            return moment + slack - timedelta(milliseconds=1)
        return now - Duration.parse(when)
    except (ValueError, OverflowError) as exc:
        raise UsageError(f'{reference}: "{when}" is not a point in time ({exc})', hint=f"write {_FORMS}") from exc
