"""Steps that send a part to a source: put."""

import re
from collections.abc import Sequence
from typing import Any

from historon.collect.failures import CollectError, FailureKind
from historon.collect.taking import Result, Taking
from historon.estate import Put
from historon.versions import belongs_to

__all__ = ["take"]

_DECLARATION = re.compile(rb"\A\s*<\?xml[^>]*\?>\s*")  # XML 1.0, section 2.8


async def take(taking: Taking, place: str, step: Put[Any]) -> None:
    """See Taker."""
    await taking.single(place, step, _put)


async def _put(taking: Taking, step: Put[Any]) -> Result:
    """Put the parts of this name, or below it, that differ; or type the lines that lead to them."""
    below = f"{step.part.rstrip('/')}/"
    named = {name: one for name, one in taking.around.wanted.items() if belongs_to(name, step.part)}
    chosen = {name: one for name, one in named.items() if not one.removed}
    if not chosen:
        message = f"the version has no part {step.part}"
        raise CollectError(FailureKind.STEP, message, hint="historon show SOURCE@WHEN lists its parts")
    place = str(taking.fill(step.says))
    said = b""
    for name, one in chosen.items():
        if not one.differs:
            continue
        if taking.procedure.typing_lines:
            said += await _type(taking, step, one.lines)
            continue
        target = place if name == step.part else f"{place.rstrip('/')}/{name.removeprefix(below)}"
        answer = await taking.session.put(target, _wrapped(taking, step, one.content), step)
        await taking.judge(answer, step, step.check)
        said += answer.content
    for name in [name for name, one in named.items() if one.removed and step.remove_others]:
        await taking.session.remove(f"{place.rstrip('/')}/{name.removeprefix(below)}")
    return said, ()


def _wrapped(taking: Taking, step: Put[Any], content: bytes) -> bytes:
    """What is put of a part: itself, or a text with it in its place, without an XML declaration of its own."""
    if step.wrapped is None:
        return content
    before, _, behind = step.wrapped.partition("{content}")
    inner = _DECLARATION.sub(b"", content, count=1)
    return str(taking.fill(before)).encode() + inner + str(taking.fill(behind)).encode()


async def _type(taking: Taking, step: Put[Any], lines: Sequence[str]) -> bytes:
    """Type lines, each after the answer to the one before; the first that is refused ends it."""
    said = b""
    for number, line in enumerate(lines, 1):
        answer = await taking.session.say(line, step)
        try:
            await taking.judge(answer, step, step.check)
        except CollectError as exc:
            exc.message = f"line {number} of {len(lines)}, {line.strip()}: {exc.message}"
            raise
        if answer.content.strip():
            taking.around.answers.append((line.strip(), answer.content))
        said += answer.content
    return said
