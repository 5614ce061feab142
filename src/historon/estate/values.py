"""Values in steps: `{address}`, `{label.site}` and the like, filled in for each source; `{{` and `}}` are braces."""

import re
from collections.abc import Iterator, Mapping
from datetime import UTC, datetime

from msgspec.structs import replace

from historon.estate.model import Procedure, Source, Step

__all__ = ["fill_steps", "missing_values", "values_of"]

_PLACE = re.compile(r"\{\{|\}\}|\{([a-z]+(?:\.[\w-]+)?)\}")


def values_of(source: Source, user: str = "", at: datetime | None = None) -> dict[str, str]:
    """What may stand in braces. `{instant}` is in UTC, in ISO 8601's basic format, fit for a file name."""
    labels = {f"label.{label}": value for label, value in source.labels.items()}
    instant = f"{at.astimezone(UTC):%Y%m%dT%H%M%SZ}" if at else ""
    return {"name": source.name, "address": source.address, "user": user, "instant": instant, **labels}


def missing_values(procedure: Procedure, values: Mapping[str, str]) -> Iterator[tuple[int, str]]:
    """Each value that a step asks for and that is not there, with the step's index."""
    for index, step in enumerate(procedure.steps):
        said = (step.says,) if isinstance(step.says, str) else step.says
        for name in (match[1] for text in said for match in _PLACE.finditer(text)):
            if name is not None and name not in values:
                yield index, name


def fill_steps(procedure: Procedure, values: Mapping[str, str]) -> Procedure:
    """The procedure with the values in place of what stands in braces."""

    def filled(text: str) -> str:
        return _PLACE.sub(lambda match: values[match[1]] if match[1] else match[0][0], text)

    def filled_step(step: Step) -> Step:
        said = filled(step.says) if isinstance(step.says, str) else tuple(map(filled, step.says))
        return replace(step, **{step.verb: said})

    return replace(procedure, steps=tuple(map(filled_step, procedure.steps)))
