"""Work that is asynchronous, for callers who are not."""

import asyncio
import signal
import threading
from collections.abc import Callable, Coroutine, Iterator
from concurrent.futures import ThreadPoolExecutor
from contextlib import contextmanager
from typing import Any, TypeVar

__all__ = ["interruptible", "run"]

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


@contextmanager
def interruptible() -> Iterator[None]:
    """Let Ctrl-C interrupt a question to a person at once: a running loop would only cancel its task, when it is asked.

    Where Ctrl-C is ignored it stays so, and elsewhere than in the main thread nothing is changed.
    """
    handled = signal.getsignal(signal.SIGINT)
    if threading.current_thread() is not threading.main_thread() or not callable(handled):
        yield
        return
    signal.signal(signal.SIGINT, signal.default_int_handler)
    try:
        yield
    finally:
        signal.signal(signal.SIGINT, handled)
