"""Deadlines that do not count time in which Historon itself was busy, and how late its event loop was.

While a loop runs one long piece of work, whatever came in meanwhile waits: nobody else is to blame for that.
"""

import asyncio
from collections import deque
from collections.abc import AsyncIterator
from contextlib import asynccontextmanager
from datetime import timedelta
from weakref import WeakKeyDictionary

__all__ = ["lateness", "note_lateness", "within"]

_TICK_S = 0.25
_LATE_S = 0.1  # what is less is the way of timers
_REMEMBERED_S = 120.0


class _Watch:
    """Looks at the clock again and again; what a look comes too late is given to all deadlines that run."""

    def __init__(self, loop: "asyncio.AbstractEventLoop") -> None:
        self._loop = loop
        self._next = 0.0
        self._running: set[asyncio.Timeout] = set()
        self._late: deque[tuple[float, float]] = deque()

    def add(self, deadline: "asyncio.Timeout") -> None:
        if not self._running:
            self._plan()
        self._running.add(deadline)

    def discard(self, deadline: "asyncio.Timeout") -> None:
        self._running.discard(deadline)

    def _plan(self) -> None:
        self._next = self._loop.time() + _TICK_S
        self._loop.call_at(self._next, self._look)

    def _look(self) -> None:
        late = self._loop.time() - self._next
        if late > _LATE_S:
            self.note(late)
            for deadline in self._running:
                when = deadline.when()
                if when is not None and not deadline.expired():
                    deadline.reschedule(when + late)
        if self._running:
            self._plan()

    def note(self, late: float) -> None:
        self._late.append((self._loop.time(), late))

    def worst(self) -> float:
        while self._late and self._late[0][0] < self._loop.time() - _REMEMBERED_S:
            self._late.popleft()
        return max((late for _, late in self._late), default=0.0)


_WATCHES: "WeakKeyDictionary[asyncio.AbstractEventLoop, _Watch]" = WeakKeyDictionary()


def _watch() -> _Watch:
    loop = asyncio.get_running_loop()
    return _WATCHES.setdefault(loop, _Watch(loop))


@asynccontextmanager
async def within(span: timedelta | None) -> AsyncIterator[None]:
    """Raise TimeoutError when what is inside takes longer, as asyncio.timeout does; None sets no limit."""
    async with asyncio.timeout(span.total_seconds() if span is not None else None) as deadline:
        watch = _watch()
        watch.add(deadline)
        try:
            yield
        finally:
            watch.discard(deadline)


def note_lateness(late: float) -> None:
    """Somebody else saw that the running loop was late, by so many seconds."""
    if late > _LATE_S:
        _watch().note(late)


def lateness() -> timedelta:
    """By how much the running loop was seen to be late in the last two minutes, at worst."""
    return timedelta(seconds=_watch().worst())
