"""What runs beside the rounds of a service: one task of each name at most."""

import asyncio
from collections.abc import Coroutine
from dataclasses import dataclass
from datetime import datetime
from typing import Any

from historon.estate import Estate, next_instants

__all__ = ["Beside", "Wish"]


class Beside:
    """Tasks by their names. One that has ended keeps its place until somebody takes up what came of it."""

    def __init__(self) -> None:
        self._tasks: dict[str, asyncio.Task[None]] = {}

    def begin(self, name: str, work: Coroutine[Any, Any, None]) -> None:
        """Begin a task of this name; there must be none."""
        self._tasks[name] = asyncio.create_task(work, name=name)

    def has(self, *names: str) -> bool:
        """Whether there is one of these."""
        return not self._tasks.keys().isdisjoint(names)

    def tasks(self, *, but: str = "") -> "set[asyncio.Task[None]]":
        """All of them, but perhaps one."""
        return {task for name, task in self._tasks.items() if name != but}

    def take_up(self, *names: str) -> bool:
        """Free the places of those that have ended; returns whether there was one. Raises what went wrong in it."""
        ended = [name for name in names if name in self._tasks and self._tasks[name].done()]
        for task in [self._tasks.pop(name) for name in ended]:
            task.result()
        return bool(ended)


@dataclass
class Wish:
    """Something that is to be done between rounds: after them, or by a timetable."""

    wanted: bool = False
    _next: datetime | None = None

    def look(self, estate: Estate, when: str, now: datetime) -> None:
        """Whether its timetable says that it is time."""
        timetable = estate.timetables.get(when)
        if timetable is None:
            self._next = None
        elif self._next is None:
            (self._next,) = next_instants(timetable, estate.zone, now, 1)
        elif now >= self._next:
            self._next, self.wanted = None, True
