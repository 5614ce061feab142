"""Going through a procedure, step by step."""

import asyncio
from collections.abc import AsyncIterator, Callable, Sequence
from contextlib import asynccontextmanager
from dataclasses import dataclass
from datetime import timedelta
from time import monotonic

from historon.collect.failures import CollectError, FailureKind
from historon.collect.transport import Session
from historon.estate import Procedure, Step
from historon.inspection import Kept, error_line
from historon.store import Part

__all__ = ["StepObserver", "StepTaken", "take_steps"]

_HOSTILE = ("..", ".", "")


@dataclass(frozen=True)
class StepTaken:
    """A step that ended well: how long it took, and the answer, or the parts that were pulled."""

    place: str
    took: timedelta
    answer: bytes
    parts: Sequence[Part]


StepObserver = Callable[[StepTaken], None]


async def take_steps(session: Session, procedure: Procedure, told: StepObserver | None = None) -> list[Kept]:
    """All parts that the steps keep; `told` hears of each step. Raises CollectError with the step's place.

    Steps that tidy are taken at the end, in their order, whatever happened before; when one of them fails, what was
    kept stays good, and the session has a remark about it.
    """
    total = len(procedure.steps)
    steps = [(f"step {number} of {total} ({step})", step) for number, step in enumerate(procedure.steps, 1)]
    taking = _Taking(session, procedure, told)
    kept: list[Kept] = []
    try:
        for place, step in steps:
            if step.verb != "tidy":
                kept += await taking.take(place, step)
    except CollectError as exc:
        await taking.tidy(steps)
        raise exc.remarking(session.remarks) from exc.__cause__
    except BaseException:
        await taking.tidy(steps)
        raise
    await taking.tidy(steps)
    if len(kept) > len({one.part.name for one in kept}):
        raise CollectError(FailureKind.STEP, "two parts have the same name", hint="give each step its own as")
    return kept


@dataclass(frozen=True)
class _Taking:
    session: Session
    procedure: Procedure
    told: StepObserver | None

    async def take(self, place: str, step: Step) -> list[Kept]:
        """One step, within its deadline."""
        began = monotonic()
        self.session.place = place
        async with _within(self.session, self.procedure, step, place):
            answer, parts = await self._taken(step)
        if self.told:
            self.told(StepTaken(place, timedelta(seconds=monotonic() - began), answer, parts))
        return [Kept(part, step) for part in parts]

    async def tidy(self, steps: Sequence[tuple[str, Step]]) -> None:
        """The steps that tidy up; what fails of them is a remark."""
        for place, step in steps:
            if step.verb == "tidy":
                try:
                    await self.take(place, step)
                except CollectError as exc:
                    self.session.remarks.append(f"{exc.step} did not tidy up: {exc.message}")

    async def _taken(self, step: Step) -> tuple[bytes, list[Part]]:
        if step.pull is not None:
            return b"", [_checked(part) for part in await self.session.pull(step.pull, step.as_)]
        answer = await self.session.say(step.says)
        if step.keep is not None and step.as_ is not None:
            return answer, [_checked(Part(step.as_, answer))]
        if (line := error_line(answer, self.procedure)) is not None:
            raise CollectError(FailureKind.STEP, f'it answers: "{line}"', tail=answer)
        return answer, []


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


def _checked(part: Part) -> Part:
    """Names of parts become file names one day: they may not lead anywhere."""
    if any(piece in _HOSTILE for piece in part.name.split("/")) or "\0" in part.name:
        raise CollectError(FailureKind.STEP, f"{part.name!r} cannot be the name of a part", hint="use as to name it")
    return part
