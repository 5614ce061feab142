"""What time a device thinks it is."""

import re
from datetime import datetime, timedelta
from zoneinfo import ZoneInfo

from historon.estate import describe

__all__ = ["skew_words", "told_instant"]

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
