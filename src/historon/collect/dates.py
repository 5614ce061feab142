"""What time a device thinks it is, and when an export was made by its own account."""

import re
from datetime import UTC, datetime, timedelta
from typing import Any
from zoneinfo import ZoneInfo

from historon.collect.answers import find
from historon.collect.transports.interface import Answer, Origin
from historon.estate import Dated, Finder, describe

__all__ = ["common_instant", "export_date", "skew_words", "told_instant"]

_DIRECTIVES = {
    "Y": r"\d{4}",
    "y": r"\d{2}",
    "m": r"\d{1,2}",
    "d": r"\d{1,2}",
    "e": r"\d{1,2}",
    "H": r"\d{1,2}",
    "I": r"\d{1,2}",
    "M": r"\d{1,2}",
    "S": r"\d{1,2}",
    "f": r"\d{1,6}",
    "j": r"\d{3}",
    "p": r"[AaPp][Mm]",
    "b": r"[A-Za-z]{3}",
    "B": r"[A-Za-z]+",
    "a": r"[A-Za-z]{3}",
    "A": r"[A-Za-z]+",
    "z": r"[+-]\d{2}:?\d{2}|Z",
    "Z": r"[A-Za-z]{3,5}",
    "%": "%",
}


def told_instant(text: str, form: str, zone: ZoneInfo) -> datetime | None:
    """The first instant in a text of this form (strftime's directives), in `zone` where it does not name one."""
    pattern = re.sub(r"%([A-Za-z%])|(.)", _as_pattern, form, flags=re.DOTALL)
    for found in re.finditer(pattern, text):
        try:
            told = datetime.strptime(found[0], form)
        except ValueError:
            continue
        return told if told.tzinfo else told.replace(tzinfo=zone)
    return None


def _as_pattern(match: re.Match[str]) -> str:
    if match[1]:
        return f"(?:{_DIRECTIVES.get(match[1], '.+?')})"
    return r"\s+" if match[2].isspace() else re.escape(match[2])


def skew_words(skew: timedelta, bearable: timedelta) -> str | None:
    """A remark about a clock that is ahead of ours, or behind, by more than is bearable."""
    if abs(skew) <= bearable:
        return None
    return f"its clock is {describe(abs(skew))} {'ahead of' if skew > timedelta() else 'behind'} ours"


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
