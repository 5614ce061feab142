"""Going through a procedure, step by step."""

import asyncio
from collections.abc import AsyncIterator, Sequence
from contextlib import asynccontextmanager

from historon.collect.failures import CollectError, FailureKind
from historon.collect.transport import Session
from historon.estate import Procedure, Step
from historon.inspection import Kept, error_line
from historon.store import Part

__all__ = ["take_steps"]

_HOSTILE = ("..", ".", "")


async def take_steps(session: Session, procedure: Procedure) -> list[Kept]:
    """All parts that the steps keep. Raises CollectError with the step's place.

    Steps that tidy are taken at the end, in their order, whatever happened before; when one of them fails, what was
    kept stays good, and the session has a remark about it.
    """
    steps = [
        (f"step {number} of {len(procedure.steps)} ({step})", step) for number, step in enumerate(procedure.steps, 1)
    ]
    kept: list[Kept] = []
    try:
        for place, step in steps:
            if step.verb != "tidy":
                async with _within(session, procedure, step, place):
                    kept += await _take(session, procedure, step)
    except CollectError as exc:
        await _tidy(session, procedure, steps)
        raise exc.remarking(session.remarks) from exc.__cause__
    except BaseException:
        await _tidy(session, procedure, steps)
        raise
    await _tidy(session, procedure, steps)
    if len(kept) > len({one.part.name for one in kept}):
        raise CollectError(FailureKind.STEP, "two parts have the same name", hint="give each step its own as")
    return kept


async def _tidy(session: Session, procedure: Procedure, steps: Sequence[tuple[str, Step]]) -> None:
    for place, step in steps:
        if step.verb == "tidy":
            try:
                async with _within(session, procedure, step, place):
                    await _take(session, procedure, step)
            except CollectError as exc:
                session.remarks.append(f"{exc.step} did not tidy up: {exc.message}")


@asynccontextmanager
async def _within(session: Session, procedure: Procedure, step: Step, place: str) -> AsyncIterator[None]:
    """The step's deadline, and its place in whatever goes wrong."""
    deadline = step.deadline or procedure.step_deadline
    try:
        async with asyncio.timeout(deadline.total_seconds()):
            yield
    except TimeoutError as exc:
        message = f"no complete answer within {deadline}"
        raise CollectError(FailureKind.TIME, message, tail=session.tail).at_step(place) from exc
    except CollectError as exc:
        raise exc.at_step(place) from exc.__cause__


async def _take(session: Session, procedure: Procedure, step: Step) -> list[Kept]:
    if step.pull is not None:
        return [Kept(_checked(part), step) for part in await session.pull(step.pull, step.as_)]
    answer = await session.say(step.says)
    if step.keep is not None and step.as_ is not None:
        return [Kept(_checked(Part(step.as_, answer)), step)]
    if (line := error_line(answer, procedure)) is not None:
        raise CollectError(FailureKind.STEP, f'it answers: "{line}"', tail=answer)
    return []


def _checked(part: Part) -> Part:
    """Names of parts become file names one day: they may not lead anywhere."""
    if any(piece in _HOSTILE for piece in part.name.split("/")) or "\0" in part.name:
        raise CollectError(FailureKind.STEP, f"{part.name!r} cannot be the name of a part", hint="use as to name it")
    return part
