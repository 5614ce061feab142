"""Time that does not have to be waited for."""

import asyncio
import os
import selectors
import tempfile
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from pathlib import Path
from typing import IO, Any

from historon.base.workers import Done, Workers


@contextmanager
def fast_folder() -> Iterator[Path]:
    """A folder in memory where that is possible: thousands of rounds would wait for the disk most of the time."""
    memory = "/dev/shm" if os.access("/dev/shm", os.W_OK) else None
    with tempfile.TemporaryDirectory(dir=memory, ignore_cleanup_errors=True) as folder:
        yield Path(folder)


class InProcess(Workers):
    """Workers that work here and now, where time leaps or something is put in the place of something else."""

    def start(self) -> None:
        return None

    async def run(
        self,
        key: str,
        work: Callable[..., Iterator[Any]],
        *given: Any,
        files: Sequence[IO[bytes]] = (),
        reply: Any = Any,
    ) -> Done:
        return Done(list(work(*given, list(files))))


class LeapingLoop(asyncio.SelectorEventLoop):
    """An event loop that never waits: when nothing is to do, its clock leaps to the next thing. Threads are not used."""

    def __init__(self) -> None:
        selector = selectors.DefaultSelector()
        self.select = selector.select
        selector.select = self._leap  # type: ignore[method-assign]
        self.leapt = 0.0
        super().__init__(selector)
        self._clock_resolution = 1e-6  # after half a year a nanosecond added to its seconds is lost, and nothing is due

    def _leap(self, timeout: float | None = None) -> list[Any]:
        events = self.select(0 if timeout is not None else None)
        if not events and timeout:
            events = self.linger()
            self.leapt += 0 if events else timeout
        return events

    def linger(self) -> list[Any]:
        """What comes soon though nothing is there now: nothing here, as nothing works beside this loop."""
        return []

    def time(self) -> float:
        return self.leapt

    def run_in_executor(self, executor: Any, func: Any, *args: Any) -> Any:  # type: ignore[override]
        made = self.create_future()
        try:
            made.set_result(func(*args))
        except BaseException as exc:
            made.set_exception(exc)
        return made
