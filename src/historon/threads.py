"""Calls that may hang (a dead mount, a server that never answers), each in a thread of its own."""

import asyncio
import errno
import threading
from collections.abc import Callable
from datetime import datetime
from typing import Any, TypeVar

__all__ = ["StillBusyError", "apart"]

T = TypeVar("T")
_busy: dict[tuple[int, str], str] = {}  # by event loop and key: since when


class StillBusyError(OSError):
    """The call before, of the same key, has not come back yet."""

    def __init__(self, key: str, since: str) -> None:
        self.words = f"what was begun at {since} has not come back yet: is its disk or server gone?"
        super().__init__(errno.EBUSY, self.words, key)


async def apart(key: str, work: Callable[..., T], *given: Any) -> T:
    """What `work` returns or raises.

    The thread is its own, so that one that never comes back takes no place from others, and nobody waits for it at the
    end. There is one at most for each key: StillBusyError while the one before has not come back.
    """
    loop = asyncio.get_running_loop()
    mine = (id(loop), key)
    if since := _busy.get(mine):
        raise StillBusyError(key, since)
    _busy[mine] = f"{datetime.now().astimezone():%Y-%m-%d %H:%M:%S}"
    came: asyncio.Future[T] = loop.create_future()

    def settle(result: T | None, trouble: BaseException | None) -> None:
        if came.cancelled():
            return
        if trouble is not None:
            came.set_exception(trouble)
        else:
            came.set_result(result)  # type: ignore[arg-type]

    def call() -> None:
        result: T | None = None
        trouble: BaseException | None = None
        try:
            result = work(*given)
        except BaseException as exc:
            trouble = exc
        _busy.pop(mine, None)
        if not loop.is_closed():
            loop.call_soon_threadsafe(settle, result, trouble)

    threading.Thread(target=call, name=key, daemon=True).start()
    return await came
