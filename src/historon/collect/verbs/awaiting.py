"""Steps that ask again and again until all is well: await."""

import asyncio
from time import monotonic
from typing import Any

from historon.collect.answers import whats_wrong
from historon.collect.failures import CollectError, FailureKind, NotNowError
from historon.collect.taking import Result, Taking
from historon.collect.transports.interface import Answer
from historon.estate import Await, Check, Pause, Said

__all__ = ["poll", "take"]


async def take(taking: Taking, place: str, step: Await[Any]) -> None:
    """See Taker."""
    await taking.timed(place, lambda: _awaited(taking, step, place))


async def _awaited(taking: Taking, written: Await[Any], place: str) -> Result:
    step = taking.filled(written)
    answer, wrong = await poll(taking, taking.fill(step.says), step, step.until, place)
    if wrong is None:
        await taking.learn(answer, step)
    if wrong is None or step.or_else == "continue":
        if wrong is not None:
            taking.session.remarks.append(f"continued without {step.word or step.says}: {wrong} after {step.within}")
        return answer.content, ()
    message = f"{step.word or 'the awaited answer'} did not come within {step.within}: {wrong}"
    if step.or_else == "skip":
        raise NotNowError(message)
    raise CollectError(FailureKind.TIME, message, tail=answer.tail).at_step(place)


async def poll(
    taking: Taking, what: Said, step: Await[Any] | Pause[Any], until: Check, place: str
) -> tuple[Answer, str | None]:
    """Ask again and again, until all is well or time is up; returns the last answer, and what is wrong with it."""
    began, stood, last = monotonic(), monotonic(), Answer(b"")
    while True:
        try:
            async with taking.within(step.deadline, place):
                answer = await taking.ask(what, step)
        except CollectError as exc:
            if exc.kind not in (FailureKind.UNREACHABLE, FailureKind.REFUSED):
                raise
            answer = last
            wrong: str | None = exc.message  # what is awaited may be that it is there at all
        else:
            stood = monotonic() if answer.content != last.content else stood
            wrong = await taking.read(answer, _not_yet, until, asked=until) or _moving(until, monotonic() - stood)
        last = answer
        if wrong is None or monotonic() - began + step.every.total_seconds() > step.within.total_seconds():
            return answer, wrong
        await asyncio.sleep(step.every.total_seconds())


def _moving(until: Check, stood: float) -> str | None:
    if until.still is None or stood >= until.still.total_seconds():
        return None
    return f"the answer still changes, or was not unchanged for {until.still}"


def _not_yet(answer: Answer, until: Check) -> str | None:
    return whats_wrong(answer, until, strict=False)
