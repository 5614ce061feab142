"""When an export was made, by its own account: the time of its file, or a date in its name or its text."""

from datetime import UTC, datetime
from typing import Any
from zoneinfo import ZoneInfo

from historon.collect.answers import find
from historon.collect.clocks import told_instant
from historon.collect.transports.interface import Answer, Origin
from historon.estate import Dated, Finder

__all__ = ["common_instant", "export_date"]

_SECONDS = 10**11  # a number beyond it counts milliseconds: as seconds it would be the year 5138


def export_date(answer: Answer, dated: Dated, form: str | None, origin: Origin, zone: ZoneInfo) -> datetime:
    """The instant that stands where `dated` says, of the form of `form` (strftime's directives), or a common one.

    Common are ISO 8601, dates of mail and HTTP (RFC 5322 section 3.3, RFC 9110 section 5.6.7), and seconds or
    milliseconds since 1970 in UTC. A time without a zone is in `zone`. LookupError when there is none.
    """
    if dated == "time":
        if origin.time is None:
            raise LookupError("the source does not report the time of the file")
        return origin.time
    if dated.kind == "name":
        value: Any = find(
            Finder.parse(f"pattern:{dated.place}"), Answer(origin.name.encode("utf-8", "surrogateescape"))
        )
    else:
        value = find(Finder.parse(str(dated)), answer)
    told = told_instant(str(value), form, zone) if form else _common(value, zone)
    if told is None:
        raise LookupError(f'"{str(value)[:60]}" is not a time{f" of the form {form}" if form else ""}')
    return told


def _common(value: Any, zone: ZoneInfo) -> datetime | None:
    text = str(value).strip()
    try:
        number = float(text)
    except ValueError:
        return common_instant(text, zone)
    try:
        return datetime.fromtimestamp(number / 1000 if number > _SECONDS else number, UTC)
    except (OverflowError, ValueError, OSError):
        return None


def common_instant(text: str, zone: ZoneInfo) -> datetime | None:
    """A date and time in ISO 8601, or as in mail and HTTP; in `zone` where it names none. None for anything else."""
    from email.utils import parsedate_to_datetime

    for read in (datetime.fromisoformat, parsedate_to_datetime):
        try:
            told = read(text)
        except (ValueError, TypeError, OverflowError, IndexError):
            continue
        return told if told.tzinfo else told.replace(tzinfo=zone)
    return None
