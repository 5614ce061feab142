"""Work that is asynchronous, for callers who are not."""

import asyncio
from collections.abc import Callable, Coroutine
from concurrent.futures import ThreadPoolExecutor
from typing import Any, TypeVar

__all__ = ["run"]

T = TypeVar("T")


def run(work: Callable[[], Coroutine[Any, Any, T]]) -> T:
    """Do the work and wait for it, also where a loop is running in this thread, such as in a notebook.

    The running loop stands still meanwhile: in a program of your own await the coroutine instead.
    """
    try:
        asyncio.get_running_loop()
    except RuntimeError:
        return asyncio.run(work())
    with ThreadPoolExecutor(1) as beside:
        return beside.submit(lambda: asyncio.run(work())).result()
