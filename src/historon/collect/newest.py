"""Which of several is the newest: by instants, by numbers, or by names in the order in which people count them."""

import re
from collections.abc import Sequence
from datetime import UTC, datetime, timedelta
from typing import Any
from zoneinfo import ZoneInfo

from historon.collect.dates import common_instant

__all__ = ["in_order", "newest_file", "newest_of"]

_SKEW = timedelta(days=1)  # by which a file's time may be ahead: a device may think that it is in another zone
_DAYS = re.compile(r"(\d{1,2})([./])(\d{1,2})\2(\d{4})((?:[ T,]+\d{1,2}:\d{2}(?::\d{2})?)?)")


def newest_of(values: Sequence[Any], now: datetime, zone: ZoneInfo) -> tuple[int, str]:
    """The place of the newest of these values, and a remark. What is in the future counts only where nothing else is.

    Numbers are compared by size, dates and times as instants (ISO 8601, those of mail and HTTP, and `31.12.2025`),
    anything else in natural order: `backup-9` before `backup-10`. ValueError where days and months cannot be known
    apart.
    """
    there = [at for at, value in enumerate(values) if value is not None]
    numbers = {at: _number(values[at]) for at in there}
    if all(number is not None for number in numbers.values()):
        return max(there, key=lambda at: (numbers[at] or 0.0, -at)), ""
    instants = dict(zip(there, _instants([str(values[at]) for at in there], zone), strict=True))
    if all(instant is not None for instant in instants.values()):
        known = {at: instant for at, instant in instants.items() if instant is not None}
        past = [at for at in there if known[at] <= now + _SKEW]
        ahead = len(there) - len(past)
        remark = f"{ahead} of {len(there)} are dated in the future, and ignored" if ahead and past else ""
        return max(past or there, key=lambda at: (known[at], -at)), remark
    mixed = any(one is not None for one in (*numbers.values(), *instants.values()))
    remark = "not all are numbers, and not all are dates: they are compared as names" if mixed else ""
    return max(there, key=lambda at: (in_order(str(values[at])), -at)), remark


def newest_file(names: Sequence[str], times: Sequence[float], by: str, now: datetime) -> tuple[int, str]:
    """The place of the newest of some files, by `name` or by `time` (seconds since 1970), and a remark."""
    every = range(len(names))
    if by == "name":
        return max(every, key=lambda at: in_order(names[at])), ""
    limit = (now + _SKEW).timestamp()
    past = [at for at in every if times[at] <= limit]
    ahead = len(names) - len(past)
    remark = f"{ahead} of {len(names)} files have a time in the future, and were ignored" if ahead and past else ""
    return max(past or every, key=lambda at: (times[at], in_order(names[at]))), remark


def in_order(text: str) -> list[tuple[int, int, str]]:
    """A key by which names stand in natural order: their numbers by size."""
    pieces = re.findall(r"(\d+)|(\D+)", text)
    return [(0, int(number), number) if number else (1, 0, other) for number, other in pieces]


def _number(value: Any) -> float | None:
    try:
        return None if isinstance(value, bool) else float(value)
    except (TypeError, ValueError):
        return None


def _instants(texts: Sequence[str], zone: ZoneInfo) -> list[datetime | None]:
    """All as instants; dates with two short numbers by what all of them together allow."""
    found = [_DAYS.fullmatch(text.strip()) for text in texts]
    if not all(found):
        return [common_instant(text, zone) for text in texts]
    matches = [match for match in found if match]
    firsts, seconds = [int(match[1]) for match in matches], [int(match[3]) for match in matches]
    by_day = max(firsts) > 12 or all(match[2] == "." for match in matches)
    by_month = max(seconds) > 12
    if by_day == by_month:
        raise ValueError(f'"{texts[0]}" may be by day or by month first: none of {len(texts)} dates shows which')
    order = ("%d", "%m") if by_day else ("%m", "%d")
    return [_of_day(match, order, zone) for match in matches]


def _of_day(match: re.Match[str], order: tuple[str, str], zone: ZoneInfo) -> datetime | None:
    text = f"{match[1]} {match[3]} {match[4]} {match[5].strip(' T,')}".strip()
    clock = {0: "", 1: " %H:%M", 2: " %H:%M:%S"}[match[5].count(":")]
    try:
        return datetime.strptime(text, f"{order[0]} {order[1]} %Y{clock}").replace(tzinfo=zone).astimezone(UTC)
    except ValueError:
        return None
