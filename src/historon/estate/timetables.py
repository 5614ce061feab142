"""When sources are due, as the administrator writes it."""

import re
from datetime import UTC, date, datetime, time
from typing import Annotated, Literal, Self

from msgspec import Meta, field

from historon.estate.durations import Duration
from historon.estate.table import Table

__all__ = ["CRON_FIELDS", "Cron", "Freeze", "Hours", "Times", "Timetable"]

_CLOCK = re.compile(r"([01]\d|2[0-3]):([0-5]\d)")
CRON_FIELDS = ("minute", "hour", "day of month", "month", "day of week")

Weekday = Literal["mon", "tue", "wed", "thu", "fri", "sat", "sun"]
MonthDay = Annotated[int, Meta(ge=-28, le=31)]


class Times(str):
    """Times on the clock of the estate's zone, such as `02:30`; written as one text or as a list of them."""

    __slots__ = ()

    @classmethod
    def parse(cls, written: object) -> Self:
        """Check each."""
        texts = {str(one) for one in written} if isinstance(written, list | tuple) else {str(written)}
        for text in texts:
            if not _CLOCK.fullmatch(text):
                raise ValueError(f'"{text}" is not a time of day (write for example "02:30")')
        return cls(" ".join(sorted(texts)))

    @property
    def times(self) -> list[time]:
        """The same as times, in order."""
        return [time.fromisoformat(text) for text in self.split()]


class Hours(str):
    """Hours of the day, such as `08:00-17:30`; those of `22:00-06:00` reach over midnight."""

    __slots__ = ()

    @classmethod
    def parse(cls, text: object) -> Self:
        """Check that these are two different times."""
        begin, dash, end = text.partition("-") if isinstance(text, str) else ("", "", "")
        if not dash or not _CLOCK.fullmatch(begin) or not _CLOCK.fullmatch(end) or begin == end:
            raise ValueError(f'"{text}" is not a span of hours (write for example "22:00-06:00")')
        return cls(text)

    def hold(self, at: time) -> bool:
        """Whether a time is in these hours; their end is not."""
        begin, end = self.begin, self.end
        return begin <= at < end if begin < end else at >= begin or at < end

    @property
    def begin(self) -> time:
        """When they begin."""
        return time.fromisoformat(self.partition("-")[0])

    @property
    def end(self) -> time:
        """When they are over."""
        return time.fromisoformat(self.partition("-")[2])


class Cron(str):
    """Five fields as in crontab (POSIX.1-2017, crontab): minute, hour, day of month, month, day of week."""

    __slots__ = ()

    @classmethod
    def parse(cls, text: object) -> Self:
        """Check the fields, and that there ever is such a time."""
        from cronsim import CronSim, CronSimError  # imported where it is used: few estates have such fields

        fields = ", ".join(CRON_FIELDS)
        if not isinstance(text, str) or len(text.split()) != len(CRON_FIELDS):
            raise ValueError(f'"{text}" does not have five fields ({fields})')
        try:
            next(CronSim(text, datetime(2024, 1, 1, tzinfo=UTC)))
        except CronSimError as exc:
            raise ValueError(f'"{text}": {exc} ({fields})') from exc
        except StopIteration as exc:
            raise ValueError(f'"{text}" never comes (there is no such day)') from exc
        return cls(text)


class Timetable(Table, frozen=True):
    """`[timetables.NAME]`: when sources are due.

    `at` times on `weekdays` and `days` of the month (-1 is the last), or `every` so often counted from midnight, or
    `cron`. Sources start at different moments over the time of `spread`. What would begin in `quiet` hours waits for
    their end.
    """

    at: Times | None = None
    weekdays: tuple[Weekday, ...] = ()
    days: tuple[MonthDay, ...] = ()
    every: Duration | None = None
    cron: Cron | None = None
    spread: Duration = Duration()
    quiet: tuple[Hours, ...] = ()

    def __post_init__(self) -> None:
        """One way to say when, and only what belongs to it."""
        said = [name for name in ("at", "every", "cron") if getattr(self, name)]
        if len(said) != 1:
            raise ValueError(
                'gives the time in more than one way, or in none (write at = "02:30", every = '
                '"12h" or cron = "30 2 * * *")'
            )
        if self.at is None and (self.weekdays or self.days):
            raise ValueError(f"{said[0]} takes no weekdays and no days (they belong to at)")
        if 0 in self.days:
            raise ValueError("days of the month count from 1, or from -1 backwards")
        if self.every is not None and self.every < Duration(minutes=1):
            raise ValueError("every is at least a minute")
        if self.every is not None and self.spread > self.every:
            raise ValueError(f"spread ({self.spread}) is longer than every ({self.every}) (shorten it)")
        if self.spread >= Duration(days=1):
            raise ValueError("spread is less than a day")


class Freeze(Table, frozen=True):
    """`[[freezes]]`: from one day to another, both whole, nothing is collected on schedule."""

    from_: date = field(name="from")
    to: date
    where: dict[str, str] = {}
    why: str = ""

    def __post_init__(self) -> None:
        """The end does not come before the beginning."""
        if self.to < self.from_:
            raise ValueError(f"ends on {self.to}, before it begins on {self.from_}")
