"""What really was: the truth by which the program is judged. Nothing of the program is known here."""

from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from datetime import datetime, timedelta
from zoneinfo import ZoneInfo

__all__ = ["BAD", "GOOD", "Arrival", "Export", "Finding", "Night", "Wanted", "staying"]

GOOD = frozenset({"new", "changed", "unchanged"})
BAD = frozenset({"suspect", "failed"})

Export = dict[str, bytes]
"""The parts of an export by name."""


@dataclass(frozen=True)
class Arrival:
    """An export that came at an instant and is to become one version; `good` whether as a good one, or set aside."""

    content: bytes
    at: datetime
    good: bool = True


@dataclass(frozen=True)
class Wanted:
    """What a source gives in a night, and what may be said of that.

    `may` are the outcomes that are right; None when nothing is wrong, so that `like` says it: whether the export means
    the same as one of before, whose `state` is given to it. What a device makes of its parts is `unseen`. What arrives
    by itself is in `arrivals`. `event` is the kind of event that must be reported, where that is not the outcome's own.
    """

    parts: Export | None = None
    state: object = None
    like: Callable[[object], bool] = lambda _: False
    may: frozenset[str] | None = None
    event: str = ""
    arrivals: Sequence[Arrival] | None = None
    kinds: tuple[str, ...] = ()
    unseen: bool = False


@dataclass
class Night:
    """From one noon to the next: what each source gave, how often it was to be visited, and what else was so.

    `visits` are how many visits by the timetable are right, from and to; `by_hand` the sources that somebody collected
    from besides. Of each set in `must` one kind of event about the estate must have been reported, those in `may` may have.
    `unsure` says that ages and instants mean little, as the clock was wrong. `kinds` are the faults of the surroundings
    at work.
    """

    day: int
    noon: datetime  # at which it begins
    wanted: dict[str, Wanted] = field(default_factory=dict)
    visits: tuple[int, int] = (1, 1)
    by_hand: set[str] = field(default_factory=set)
    must: list[set[str]] = field(default_factory=list)
    may: set[str] = field(default_factory=set)
    kinds: list[str] = field(default_factory=list)
    blocked: bool = False  # sources may fail, or not be visited, as nothing could be written
    unsure: bool = False
    down: bool = False  # whether the service was down at the end
    post_later: bool = False  # whether the web server did not take what it was sent
    mail_later: bool = False
    copies: bool = False  # whether something is wrong with a copy, or was until the next update


@dataclass(frozen=True)
class Finding:
    """Something that is not as it must be: what kind of mistake, where, and which faults were at work there."""

    day: int
    mistake: str
    subject: str
    words: str
    kinds: tuple[str, ...] = ()

    def __str__(self) -> str:
        at_work = f" [{', '.join(self.kinds)}]" if self.kinds else ""
        return f"day {self.day}: {self.mistake}: {self.subject}: {self.words}{at_work}"


# The estate's retention, as docs/retention.md explains it: all for so long, then the last of each day, then of each week.
_ALL, _DAYS, _WEEKS, _AT_LEAST = timedelta(days=14), timedelta(days=60), timedelta(days=365), 1
_ZONE = ZoneInfo("Europe/Oslo")


def staying(versions: Sequence[tuple[int, datetime, str]], gone: datetime) -> set[int]:
    """The numbers that no pruning at this instant may remove: numbers, instants and states of versions, oldest first."""
    good = [(number, at) for number, at, state in versions if state != "suspect"]
    changed = [number for number, _, state in versions if state == "good"]
    found = {number for number, at in good if at >= gone - _ALL} | set(changed[-_AT_LEAST:])
    found |= {good[-1][0]} if good else set()
    for span, period in ((_DAYS, "%Y-%m-%d"), (_WEEKS, "%G-%V")):
        last = {at.astimezone(_ZONE).strftime(period): number for number, at in good if at >= gone - span}
        found |= set(last.values())
    return found
