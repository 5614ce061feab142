"""Steps that pause a service, and resume it whatever happens: pause."""

import asyncio
from datetime import timedelta
from time import monotonic
from typing import Any

from historon.collect.failures import NOT_RESUMED, CollectError, FailureKind
from historon.collect.taking import Result, StepTaken, Taking, to_its_end, words
from historon.collect.transports.interface import Session
from historon.collect.verbs.awaiting import poll
from historon.estate import Pause

__all__ = ["resume", "take"]

_RESUMES = 3


async def take(taking: Taking, place: str, written: Pause[Any]) -> None:
    """Pause, take the steps inside, and resume, whatever happened: also when pausing itself seemed to fail."""
    step = taking.filled(written)
    resuming = taking.fill(step.resume)
    taking.around.paused(resuming, True)
    try:
        async with taking.within(step.deadline, place):
            await taking.timed(place, lambda: _pausing(taking, step))
        await taking.take_all(step.steps, f"{place}, ")
    finally:
        try:
            await to_its_end(resume(taking, place, step))
        except BaseException:
            taking.around.paused(resuming, False)
            raise
        taking.around.paused(None, True)


async def _pausing(taking: Taking, step: Pause[Any]) -> Result:
    answer = await taking.ask(taking.fill(step.says), step)
    await taking.judge(answer, step)
    return answer.content, ()


async def resume(taking: Taking, place: str, step: Pause[Any]) -> None:
    """Resume and look whether it answers again; over a fresh session where the one at hand does not help."""
    taking.session.place = f"{place}, resuming"
    trouble: CollectError | None = None
    for attempt in range(_RESUMES):
        if attempt:
            await asyncio.sleep(taking.procedure.retry_pause.total_seconds())
        try:
            if not attempt:
                return await _resumed(taking, place, step)
            async with taking.around.reopen() as fresh:
                return await _resumed(_over(taking, fresh), place, step)
        except CollectError as exc:
            trouble = exc
        except OSError as exc:
            trouble = CollectError(FailureKind.STEP, exc.strerror or str(exc))
    assert trouble is not None  # noqa: S101
    left = CollectError(
        FailureKind.PAUSED,
        f"{NOT_RESUMED}: {_RESUMES} tries failed: {trouble.message}",
        hint=f"resume it by hand, now: {words(step.resume)}",
        tail=trouble.tail,
    )
    raise left.at_step(f"{place}, resuming") from trouble


def _over(taking: Taking, session: Session[Any]) -> "Taking":
    """The same going through a procedure over another session; remarks stay together."""
    session.remarks = taking.session.remarks
    return Taking(session, taking.procedure, taking.around, taking.taker_of)


async def _resumed(taking: Taking, place: str, step: Pause[Any]) -> None:
    began = monotonic()
    async with taking.within(step.deadline, f"{place}, resuming"):
        answer = await taking.ask(taking.fill(step.resume), step)
        await taking.judge(answer, step)
    if step.probe is not None and step.until is not None:
        answer, wrong = await poll(taking, taking.fill(step.probe), step, step.until, f"{place}, probing")
        if wrong is not None:
            message = f"after resuming, its answer was not right within {step.within}: {wrong}"
            raise CollectError(FailureKind.STEP, message, tail=answer.tail)
    if taking.around.told:
        took = timedelta(seconds=monotonic() - began)
        taking.around.told(StepTaken(f"{place}, resumed", took, answer.content, ()))
