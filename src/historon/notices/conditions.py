"""What people know of something that can be amiss: reported when it begins, at growing intervals, and when it is over.

What begins and ends again and again is flapping: that is reported once, and then nothing until it has been steady.
"""

from datetime import datetime, timedelta
from enum import Enum, auto
from itertools import pairwise

import msgspec
from msgspec.structs import replace

__all__ = ["Condition", "News", "advance"]

_REMEMBERED = 8  # outcomes
_FLAPPING = 4  # changes among them
_STEADY = 4  # outcomes that are alike
_LONGEST = timedelta(days=30)  # between two times that it is reported again
_SLACK = 8  # telling again may come an eighth of its time too early: rounds come at about the same time of the day
_LATER = 3  # how often the time until it is reported again is doubled for what flaps


class News(Enum):
    """What there is to tell."""

    BEGAN = auto()
    STILL = auto()
    OVER = auto()
    FLAPPING = auto()


class Condition(msgspec.Struct, frozen=True, omit_defaults=True):
    """The state of one thing: what is amiss (empty for nothing), since when, and how often that was reported.

    `recent` are the last outcomes, `w` for well and `a` for amiss.
    """

    state: str
    since: datetime
    told: int = 1
    again_at: datetime | None = None
    recent: str = ""
    flapping: bool = False


def advance(
    before: Condition | None,
    state: str,
    now: datetime,
    tell_again: timedelta,
    *,
    visited: bool = True,
    grave: bool = False,
) -> tuple[Condition | None, News | None]:
    """What is known after something was seen in this state, and what is to be reported.

    None stands for a thing that is well and was so for long. `tell_again` is the time until it is reported again, which
    doubles each time. What is not `visited` is looked at all the time, and how often that was means nothing. A `grave`
    state is reported though the thing flaps.
    """
    flaps = visited and not grave
    old = before or Condition("", now)
    recent = ""
    if flaps:
        states = old.recent + ("a" if state else "w")
        recent = states[-_REMEMBERED:]
    began = Condition(state, now, 1, now + tell_again, recent)
    if old.flapping and flaps:
        return _while_flapping(old, began)
    if sum(one != other for one, other in pairwise(recent)) >= _FLAPPING:
        return Condition(state, now, 1 + _LATER, now + tell_again * 2**_LATER, recent, flapping=True), News.FLAPPING
    if state and state != old.state:
        return began, News.BEGAN
    if state:
        return _still(old, began, early=visited)
    known = Condition("", now, recent=recent) if "a" in recent else None
    return known, News.OVER if old.state else None


def _still(old: Condition, seen: Condition, *, early: bool) -> tuple[Condition, News | None]:
    """The same as before: reported again when it is time for that, and then after twice as long."""
    first = (seen.again_at or seen.since) - seen.since
    if old.again_at is None or seen.since < old.again_at - (first / _SLACK if early else timedelta()):
        return replace(old, state=seen.state, recent=seen.recent), None
    wait = min(first.total_seconds() * 2.0 ** min(old.told, 64), max(first, _LONGEST).total_seconds())
    again = seen.since + timedelta(seconds=wait)
    return replace(old, state=seen.state, recent=seen.recent, told=old.told + 1, again_at=again), News.STILL


def _while_flapping(old: Condition, seen: Condition) -> tuple[Condition | None, News | None]:
    if len(set(seen.recent[-_STEADY:])) > 1:
        return _still(old, seen, early=True)
    steady = replace(seen, recent=seen.recent[-1:])
    if seen.state:
        return (steady, News.BEGAN)
    return (replace(steady, told=0, again_at=None), News.OVER)
