"""Time that does not have to be waited for."""

import asyncio
import selectors
from typing import Any


class LeapingLoop(asyncio.SelectorEventLoop):
    """An event loop that never waits: when nothing is to do, its clock leaps to the next thing. Threads are not used."""

    def __init__(self) -> None:
        real = selectors.DefaultSelector()
        select = real.select

        def leap(timeout: float | None = None) -> list[Any]:
            events = select(0 if timeout is not None else None)
            if not events and timeout:
                self.leapt += timeout
            return events

        real.select = leap  # type: ignore[method-assign]
        self.leapt = 0.0
        super().__init__(real)

    def time(self) -> float:
        return self.leapt

    def run_in_executor(self, executor: Any, func: Any, *args: Any) -> Any:  # type: ignore[override]
        made = self.create_future()
        try:
            made.set_result(func(*args))
        except BaseException as exc:
            made.set_exception(exc)
        return made
