"""A timetable in words; and of a wrong one, what can be understood, so that its writer sees where it went astray."""

from collections.abc import Iterator, Mapping
from datetime import datetime
from typing import Any
from zoneinfo import ZoneInfo

import msgspec

from historon.base.quantities import for_people
from historon.estate.checking import convert
from historon.estate.recurrence import next_instants
from historon.estate.timetables import CRON_FIELDS, Cron, Timetable

__all__ = ["understood", "words_of"]

_INSTANTS = 5
_WAYS = ("at", "every", "cron")


def words_of(timetable: Timetable) -> str:
    """When it is due, in a few words."""
    words = []
    if timetable.at:
        words.append(f"at {', '.join(timetable.at.split())}")
    if timetable.every:
        words.append(f"every {timetable.every}")
    if timetable.cron:
        fields = zip(CRON_FIELDS, timetable.cron.split(), strict=True)
        words += [f"{name} {field}" for name, field in fields if field != "*"] or ["every minute"]
    if timetable.weekdays:
        words.append(f"on {', '.join(timetable.weekdays)}")
    if timetable.days:
        words.append(f"on day {', '.join(map(str, timetable.days))} of the month")
    if timetable.spread:
        words.append(f"spread over {timetable.spread}")
    if timetable.quiet:
        words.append(f"not in {', '.join(timetable.quiet)}")
    return ", ".join(words)


def understood(written: object, zone: ZoneInfo, now: datetime) -> str:
    """What of a wrong timetable is understood, with the next five instants that this alone would give."""
    if not isinstance(written, Mapping):
        return ""
    return ". ".join(_told(timetable, zone, now) for timetable in _readings(written))


def _told(timetable: Timetable, zone: ZoneInfo, now: datetime) -> str:
    coming = [f"{for_people(at, zone)}" for at in next_instants(timetable, zone, now, _INSTANTS)]
    return f"It was understood as {words_of(timetable)}: next {', '.join(coming)}"


def _readings(written: Mapping[str, Any]) -> Iterator[Timetable]:
    """One timetable for each way in which it says when, with whatever else of it is right."""
    also = {key: value for key, value in written.items() if key not in _WAYS}
    for way in _WAYS:
        if way not in written:
            continue
        reading: dict[str, Any] = {way: _right_fields(written[way]) if way == "cron" else written[way]}
        made = _made(reading)
        if made is None:
            continue
        for key, value in also.items():
            more = _made({**reading, key: value})
            if more:
                made, reading = more, {**reading, key: value}
        yield made


def _made(written: Mapping[str, Any]) -> Timetable | None:
    try:
        return convert(written, Timetable)
    except msgspec.ValidationError:
        return None


def _right_fields(cron: object) -> str:
    """The fields that can be read, with a star for each that cannot."""
    fields = str(cron).split()
    fields += ["*"] * (len(CRON_FIELDS) - len(fields))
    for index, field in enumerate(fields):
        alone = ["*"] * len(CRON_FIELDS)
        alone[min(index, len(alone) - 1)] = field
        try:
            Cron.parse(" ".join(alone))
        except ValueError:
            fields[index] = "*"
    return " ".join(fields)
