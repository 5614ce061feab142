"""Going through a procedure, step by step."""

from collections.abc import Sequence
from typing import Any

from historon.collect.failures import CollectError, FailureKind
from historon.collect.taking import StepContext, Taking, words
from historon.collect.transports.interface import Session
from historon.collect.verbs import pausing, taker_of
from historon.estate import Pause, Procedure, Said, Step, fill, walk
from historon.inspection import Kept

__all__ = ["resume", "take_push", "take_steps"]


async def take_steps(session: Session[Any], procedure: Procedure, around: StepContext) -> list[Kept]:
    """All parts that the steps keep. Raises CollectError with the step's place, NotNowError when it is no good time.

    Steps that tidy are taken at the end of those they stand among, whatever happened before; when one of them fails,
    what was kept stays good, and the session has a remark about it. What was paused is resumed, whatever happened.
    """
    taking = Taking(session, procedure, around, taker_of)
    try:
        await taking.take_all(procedure.steps)
    except CollectError as exc:
        raise exc.remarking(session.remarks) from exc.__cause__
    names = [one.part.name for one in taking.kept]
    if len(names) > len(set(names)):
        raise CollectError(FailureKind.STEP, "two parts have the same name", hint="give each step its own `as`")
    if not taking.kept and taking.passed_over:
        conditions = "; ".join(dict.fromkeys(taking.passed_over))
        raise CollectError(
            FailureKind.STEP, f"no step with a part fits: {conditions}", hint="add steps for this version"
        )
    return taking.kept


async def take_push(session: Session[Any], procedure: Procedure, around: StepContext, steps: Sequence[Step]) -> None:
    """Take steps that push a version, or that confirm it. Raises CollectError with the step's place."""
    try:
        await Taking(session, procedure, around, taker_of).take_all(steps)
    except CollectError as exc:
        raise exc.remarking(session.remarks) from exc.__cause__


async def resume(session: Session[Any], procedure: Procedure, around: StepContext, said: Said) -> None:
    """Say what resumes a service that was left paused, and look whether it answers, as the procedure does.

    Raises CollectError when it does not.
    """
    taking = Taking(session, procedure, around, taker_of)
    pauses = (step for _, step in walk(procedure.steps) if isinstance(step, Pause))
    written = next((step for step in pauses if _fills_to(step.resume, around.values, said)), None)
    await pausing.resume(taking, f"resuming {words(said)}", written or Pause(says=said, resume=said))


def _fills_to(written: Said, values: dict[str, Any], said: Said) -> bool:
    try:
        return bool(fill(written, values) == said)
    except LookupError:
        return False
