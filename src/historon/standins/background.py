"""An event loop in a thread of its own, for servers that run beside ordinary code."""

import asyncio
import threading
from collections.abc import Coroutine
from typing import Any, TypeVar

__all__ = ["Background"]

T = TypeVar("T")


class Background:
    """Runs coroutines to their end, one call at a time, on a loop that goes on in between."""

    def __init__(self) -> None:
        self._loop = asyncio.new_event_loop()
        self._thread = threading.Thread(target=self._loop.run_forever, name="standins", daemon=True)
        self._thread.start()

    def run(self, work: Coroutine[Any, Any, T]) -> T:
        """The result of the coroutine."""
        return asyncio.run_coroutine_threadsafe(work, self._loop).result(30)

    def stop(self) -> None:
        """End the loop, with whatever still runs in it."""
        self.run(self._cancel_rest())
        self._loop.call_soon_threadsafe(self._loop.stop)
        self._thread.join()
        self._loop.close()

    async def _cancel_rest(self) -> None:
        rest = asyncio.all_tasks() - {asyncio.current_task()}
        for task in rest:
            task.cancel()
        await asyncio.gather(*rest, return_exceptions=True)
