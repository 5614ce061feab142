"""Is this export whole, and is it plausible? Every doubt is a sentence; no doubts make a good version."""

import re
from collections.abc import Iterator, Sequence
from dataclasses import dataclass

from msgspec import UNSET

from historon.estate import Procedure, Step
from historon.store import Part

__all__ = ["Kept", "error_line", "inspect"]

# What devices of many makes answer to a command they do not know or do not allow. As such words may also begin a
# line of a configuration, they are looked for only where an answer begins and ends.
_ERROR = re.compile(
    rb"^\W{0,3}(?:error\b|invalid (?:command|input|syntax)|unknown command|unrecognized command|syntax error"
    rb"|incomplete command|ambiguous command|command not found|permission denied|access denied|not authori[sz]ed)",
    re.IGNORECASE,
)
_EDGE = 5


@dataclass(frozen=True)
class Kept:
    """A part with the step that kept it, which says what a whole one looks like."""

    part: Part
    step: Step


def inspect(kept: Sequence[Kept], procedure: Procedure) -> list[str]:
    """Everything that makes this export doubtful."""
    if not kept:
        return ["the export is empty: there was no file to keep"]
    return [doubt for one in kept for doubt in _doubts(one, procedure)]


def _doubts(kept: Kept, procedure: Procedure) -> Iterator[str]:
    name, content, step = kept.part.name, kept.part.edges, kept.step
    if step.verb == "keep" and not content.strip():
        yield f"{name} is empty"
        return
    if step.ends_with is not None and (last := _last_line(content)) != step.ends_with.strip():
        yield f'{name} does not end with "{step.ends_with}" but with "{last[:60]}"'
    if step.min_size is not None and kept.part.size < step.min_size:
        yield f"{name} has {kept.part.size} bytes, fewer than {step.min_size}"
    if step.verb == "keep" and (line := error_line(content, procedure)) is not None:
        yield f'{name} holds an error: "{line}"'


def error_line(answer: bytes, procedure: Procedure) -> str | None:
    """The first line of an answer that is an error message: by the procedure's own patterns, or by common ones."""
    lines = answer.split(b"\n")
    if procedure.errors is UNSET:
        edges = lines if len(lines) <= 2 * _EDGE else lines[:_EDGE] + lines[-_EDGE:]
        found = next((line for line in edges if _ERROR.search(line)), None)
    else:
        found = next((line for line in lines if any(error.compiled.search(line) for error in procedure.errors)), None)
    return None if found is None else found.decode("utf-8", "replace").strip()[:120]


def _last_line(content: bytes) -> str:
    return content.rstrip().rpartition(b"\n")[2].strip().decode("utf-8", "replace")
