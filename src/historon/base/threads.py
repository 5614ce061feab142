"""Calls that may hang (a dead mount, a server that never answers), each in a thread of its own."""

import asyncio
import errno
import threading
from collections.abc import Callable
from concurrent.futures import Executor, Future
from datetime import datetime
from typing import Any, TypeVar

__all__ = ["StillBusyError", "apart"]

T = TypeVar("T")
_busy: dict[tuple[int, str], str] = {}  # by event loop and key: since when


class StillBusyError(OSError):
    """The call before, of the same key, has not come back yet."""

    def __init__(self, key: str, since: str) -> None:
        self.words = f"work that began at {since} has not ended yet: check its disk or server"
        super().__init__(errno.EBUSY, self.words, key)


class _Own(Executor):
    """A thread for one call, that nobody waits for at the end of the program; `ended` is called when that is over."""

    def __init__(self, name: str, ended: Callable[[], object]) -> None:
        self._name = name
        self._ended = ended

    def submit(self, work: Callable[..., Any], /, *given: Any, **named: Any) -> "Future[Any]":
        came: Future[Any] = Future()
        came.add_done_callback(lambda _: self._ended())

        def call() -> None:
            if not came.set_running_or_notify_cancel():
                return
            try:
                found = work(*given, **named)
            except BaseException as exc:
                came.set_exception(exc)
            else:
                came.set_result(found)

        threading.Thread(target=call, name=self._name, daemon=True).start()
        return came


async def apart(key: str, work: Callable[..., T], *given: Any) -> T:
    """What `work` returns or raises.

    The thread is its own, so that one that never comes back takes no place from others, and nobody waits for it at the
    end. There is one at most for each key: StillBusyError while the one before has not come back.
    """
    loop = asyncio.get_running_loop()
    mine = (id(loop), key)
    since = _busy.get(mine)
    if since:
        raise StillBusyError(key, since)
    _busy[mine] = f"{datetime.now().astimezone():%Y-%m-%d %H:%M:%S}"
    coming = loop.run_in_executor(_Own(key, lambda: _busy.pop(mine, None)), work, *given)
    if coming.done():  # a loop that has no threads did it at once
        _busy.pop(mine, None)
    return await coming
