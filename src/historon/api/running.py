"""Work that is asynchronous, for callers who are not."""

import signal
import threading
from collections.abc import Callable, Coroutine, Iterator
from contextlib import contextmanager
from functools import wraps
from typing import Any, ParamSpec, TypeVar

__all__ = ["interruptible", "waiting"]

P = ParamSpec("P")
T = TypeVar("T")


def waiting(work: Callable[P, Coroutine[Any, Any, T]]) -> Callable[P, T]:
    """The same for callers who are not asynchronous: it does the work and waits for it.

    It also works where a loop is running in this thread, such as in a notebook. That loop stands still meanwhile: in a
    program of your own await the coroutine instead.
    """

    @wraps(work)
    def face(*given: P.args, **named: P.kwargs) -> T:
        import asyncio
        from concurrent.futures import ThreadPoolExecutor

        try:
            asyncio.get_running_loop()
        except RuntimeError:
            return asyncio.run(work(*given, **named))
        with ThreadPoolExecutor(1) as beside:
            return beside.submit(lambda: asyncio.run(work(*given, **named))).result()

    return face


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
