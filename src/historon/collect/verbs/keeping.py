"""Steps that keep something as a part: keep and pull."""

from typing import Any

from historon.base.quantities import size_text
from historon.collect.failures import CollectError, FailureKind
from historon.collect.taking import BEARABLE, Result, Taking, failing
from historon.collect.transports.interface import Answer, Origin
from historon.collect.transports.xml import canonical_json, canonical_xml
from historon.estate import Keep, Pull
from historon.inspection import Kept
from historon.store import LARGE, Part

__all__ = ["take"]

_HOSTILE = ("..", ".", "")


async def take(taking: Taking, place: str, step: Keep[Any] | Pull[Any]) -> None:
    """See Taker."""
    await taking.single(place, step, _kept)


async def _kept(taking: Taking, step: Keep[Any] | Pull[Any]) -> Result:
    """A step that keeps something; one that is optional is left out with a remark where there is nothing."""
    try:
        answer, parts = await (_pull(taking, step) if isinstance(step, Pull) else _keep(taking, step))
    except CollectError as exc:
        if not (step.optional and (exc.absent or isinstance(step, Keep)) and exc.kind in BEARABLE):
            raise
        taking.session.remarks.append(f"{step.as_ or step.says} was left out: {exc.message}")
        return b"", ()
    taking.kept += [Kept(_checked(part), step) for part in parts]
    return answer, parts


async def _keep(taking: Taking, step: Keep[Any]) -> Result:
    taking.session.origin = Origin()
    answer = await taking.answer(step)
    await taking.note_date(step, answer)
    with failing(answer):
        content = await taking.read(answer, _canonical) if step.canonical else answer.content
    return answer.content, [Part(step.as_, content)]


async def _pull(taking: Taking, step: Pull[Any]) -> Result:
    taking.session.origin = Origin()
    parts = await taking.session.pull(str(taking.fill(step.says)), step.as_, step)
    await taking.note_date(step, Answer(parts[0].edges if len(parts) == 1 else b""))
    if step.canonical:
        large = next((part for part in parts if part.size > LARGE), None)
        if large:
            message = f"{large.name} has {size_text(large.size)}; canonical takes {size_text(LARGE)} at most"
            raise CollectError(FailureKind.TOO_LARGE, message, hint="remove canonical from this step")
        with failing():
            parts = [Part(part.name, await taking.read(Answer(part.content), _canonical)) for part in parts]
    return b"", parts


def _canonical(answer: Answer) -> bytes:
    if answer.content.lstrip()[:1] == b"<":
        return canonical_xml(answer.content)
    return canonical_json(answer.json)


def _checked(part: Part) -> Part:
    """Names of parts become file names one day: they may not lead anywhere."""
    if any(piece in _HOSTILE for piece in part.name.split("/")) or "\0" in part.name:
        raise CollectError(FailureKind.STEP, f"{part.name!r} cannot be the name of a part", hint="name it with `as`")
    return part
