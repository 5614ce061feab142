"""Durations, sizes and shares as people write them: `90d`, `26h`, `1d12h`; `64MiB`; `50%`. The only parsers."""

import re
from datetime import timedelta
from functools import lru_cache
from typing import Self

from historon.base.quantities import size_text

__all__ = ["Duration", "Share", "Size", "describe", "in_words"]

_SECONDS = {"ms": 0.001, "s": 1, "m": 60, "h": 3600, "d": 86_400, "w": 604_800, "y": 31_536_000}
_LIKELY = {
    "sec": "s",
    "second": "s",
    "min": "m",
    "minute": "m",
    "hour": "h",
    "hr": "h",
    "day": "d",
    "week": "w",
    "wk": "w",
    "year": "y",
    "yr": "y",
}
_TERM = re.compile(r"(\d+(?:\.\d+)?)\s*([^\W\d]+)\s*")
_LONGEST = 200 * _SECONDS["y"]


class Duration(timedelta):
    """A length of time: whole or decimal numbers with `ms`, `s`, `m` (minutes), `h`, `d`, `w` or `y` (365 days).

    It is shown as it was written: `26h`, not `1d 2h`.
    """

    written = ""

    @classmethod
    def parse(cls, text: object) -> Self:
        """Read a duration; ValueError says what is wrong and how it could be written."""
        if isinstance(text, bool) or not isinstance(text, (str, int, float)):
            raise ValueError('expected a duration such as "90d" or "26h"')
        written = str(text).strip()
        if re.fullmatch(r"\d+(\.\d+)?", written):
            raise ValueError(f'{written} has no unit (write "{written}d" for days or "{written}h" for hours)')
        if written.startswith("-"):
            raise ValueError(f'a duration cannot be negative (write "{written.lstrip("- ") or "30d"}")')
        seconds = _seconds(written)  # remembered: a list of ten thousand sources writes the same few
        if not 0 < seconds <= _LONGEST:
            raise ValueError("a duration must be more than zero and at most 200y")
        made = cls(seconds=seconds)
        made.written = written
        return made

    def __str__(self) -> str:
        return self.written or describe(self)


@lru_cache
def _seconds(written: str) -> float:
    total, at = 0.0, 0
    while at < len(written):
        term = _TERM.match(written, at)
        if not term:
            raise ValueError(f'"{written}" is not a duration (write for example "90d", "26h" or "1d12h")')
        number, unit = term.groups()
        if unit not in _SECONDS:
            raise ValueError(f'"{unit}" is not a unit of time ({_unit_advice(number, unit)})')
        total += float(number) * _SECONDS[unit]
        at = term.end()
    if not written:
        raise ValueError('a duration is missing (write for example "90d")')
    return total


def _unit_advice(number: str, unit: str) -> str:
    plain = unit.lower()
    singular = plain[:-1] if plain.endswith("s") and plain not in _SECONDS else plain
    if singular in ("mo", "mon", "month"):
        return f'months differ in length: write "{min(float(number) * 30.4, 9e4):.0f}d"'
    likely = _LIKELY.get(singular) or (plain if plain in _SECONDS else "")
    return f'write "{number}{likely}"' if likely else "use ms, s, m for minutes, h, d, w or y"


def describe(span: timedelta) -> str:
    """The duration in at most two units, rounded down: `3d 4h`, `45m`, `12s`, `0.4s`, `30ms`."""
    seconds = span.total_seconds()
    if seconds < 0.1:
        return f"{max(seconds, 0) * 1000:.0f}ms"
    if seconds < 10:
        return f"{seconds:.1f}s".replace(".0s", "s")
    left = int(seconds)
    words: list[str] = []
    for unit in ("y", "d", "h", "m", "s"):
        count, left = divmod(left, int(_SECONDS[unit]))
        if count or words:
            words.append(f"{count}{unit}" if count else "")
        if len(words) == 2:
            break
    return " ".join(filter(None, words))


_NAMES = {"s": "second", "m": "minute", "h": "hour", "d": "day", "w": "week", "y": "year"}


def in_words(written: str) -> str:
    """A duration as one would say it, where it is one number and unit: `7 days`; else as it is written."""
    term = _TERM.fullmatch(written)
    if term is None or term[2] not in _NAMES:
        return written
    return f"{term[1]} {_NAMES[term[2]]}{'s' * (term[1] != '1')}"


class Share(float):
    """A part of something, written in per cent: `50%`."""

    @classmethod
    def parse(cls, text: object) -> Self:
        """Read a share; ValueError says how it is written."""
        term = re.fullmatch(r"(\d{1,3}(?:\.\d+)?)\s*%", text.strip()) if isinstance(text, str) else None
        if not term or float(term[1]) > 100:
            raise ValueError('expected a share in per cent, such as "50%"')
        return cls(float(term[1]) / 100)

    @property
    def is_all(self) -> bool:
        """Whether all may go."""
        return float(self) >= 1

    def is_exceeded(self, before: int, now: int, few: int) -> bool:
        """Whether more than this share of what was there before is gone; of fewer than `few` any may go."""
        return before >= few and now < before * (1 - self)


_LARGEST = 2**60  # bytes
_BYTES = {"b": 1, "kb": 10**3, "mb": 10**6, "gb": 10**9, "kib": 2**10, "mib": 2**20, "gib": 2**30}


class Size(int):
    """A number of bytes, written with a unit: `200B`, `64kB`, `10MiB`."""

    @classmethod
    def parse(cls, text: object) -> Self:
        """Read a size; ValueError says what is wrong and how it could be written."""
        term = re.fullmatch(r"(\d+(?:\.\d+)?)\s*([A-Za-z]+)", text.strip()) if isinstance(text, str) else None
        if not term or term[2].lower() not in _BYTES:
            raise ValueError('expected a size with its unit, such as "200B", "64kB" or "10MiB"')
        size = float(term[1]) * _BYTES[term[2].lower()]
        if size > _LARGEST:
            raise ValueError(f"a size is at most {size_text(_LARGEST)}")
        return cls(int(size))
