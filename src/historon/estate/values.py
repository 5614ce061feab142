"""Values in steps: `{address}`, `{label.site}`, what was learnt, and the like; `{{` and `}}` are braces."""

import re
from collections.abc import Iterable, Iterator, Mapping
from datetime import datetime
from functools import lru_cache
from typing import Any

from historon.base.quantities import in_names
from historon.estate.model import Source
from historon.estate.procedures import Procedure
from historon.estate.secrets import is_reference
from historon.estate.steps import WITH_CLAUSES, Each, Keeping, Pick, Pull, Put, Step, walk

__all__ = ["ACCOUNT_VALUES", "BUILT_IN", "asked_values", "fill", "is_built_in", "missing_values", "values_of"]

_LISTS = ("steps", "push", "push_confirm")
_PLACE = re.compile(r"\{\{|\}\}|\{([a-z][a-z0-9_]*(?:\.[\w-]+)*)\}")
# What an account may have; the names stand for secrets, which are filled in and never shown.
ACCOUNT_VALUES = ("password", "elevation")
BUILT_IN = ("name", "address", "user", "instant", *ACCOUNT_VALUES)


def values_of(source: Source, procedure: Procedure, user: str = "", at: datetime | None = None) -> dict[str, Any]:
    """What may stand in braces. `{instant}` is in UTC, in ISO 8601, fit for a file name."""
    labels = {f"label.{label}": value for label, value in source.labels.items()}
    instant = in_names(at) if at else ""
    own = {"name": source.name, "address": source.address, "user": user, "instant": instant}
    return {**procedure.values, **source.values, **own, **labels}


def is_built_in(name: str) -> bool:
    """Whether a value of this name is given by Historon itself, so that nobody else can give it."""
    return name in BUILT_IN or name.startswith("label.")


def missing_values(procedure: Procedure, values: Iterable[str]) -> Iterator[tuple[tuple[str | int, ...], str]]:
    """Each value that a step asks for and that is neither there nor learnt by any step, with the step's place."""
    for learnt, wanted in _asked(_Same(procedure)):
        known = {*values, *learnt}
        for place, name in wanted:
            if name not in known and name.partition(".")[0] not in known:
                yield place, name


def asked_values(procedure: Procedure) -> set[str]:
    """The names of values that its steps, or its place, ask for."""
    return {name.partition(".")[0] for _, wanted in _asked(_Same(procedure)) for _, name in wanted}


class _Same:
    """A procedure known by being the same object: thousands of sources are asked in the same way."""

    def __init__(self, procedure: Procedure) -> None:
        self.procedure = procedure

    def __eq__(self, other: object) -> bool:
        return isinstance(other, _Same) and self.procedure is other.procedure

    def __hash__(self) -> int:
        return id(self.procedure)


@lru_cache
def _asked(same: _Same) -> list[tuple[set[str], list[tuple[tuple[str | int, ...], str]]]]:
    """What each list of steps of a procedure learns, and what it asks for, each with its place.

    What is learnt in one list is not known in another: each is taken over a session of its own.
    """
    procedure = same.procedure
    found = []
    for one in _LISTS:
        wanted: list[tuple[tuple[str | int, ...], str]] = []
        steps = list(walk(getattr(procedure, one), (one,)))
        for place, step in steps:
            names = [name for text in _texts(step) for name in _names(text)]
            names += step.when
            names += [step.from_] if isinstance(step, Each | Pick) else []
            wanted += [(place, name) for name in dict.fromkeys(names)]
        found.append(({name for _, step in steps for name in step.learns}, wanted))
    found[0][1].extend(((), name) for name in _names(procedure.place))
    return found


def _names(text: str) -> Iterator[str]:
    return (match[1] for match in _PLACE.finditer(text) if match[1])


def _texts(step: Step) -> Iterator[str]:
    """Everything of a step in which values are filled."""
    for said in (*step.sayings, *([step.says] if isinstance(step, Pull | Put) else [])):
        yield from (said,) if isinstance(said, str) else said
    if isinstance(step, Put) and step.wrapped is not None:
        yield step.wrapped.replace("{content}", "")
    if isinstance(step, Keeping):
        yield from (step.as_ or "", step.ends_with or "")
    if isinstance(step, WITH_CLAUSES):
        for name in step.how.filled:
            yield from _leaves(getattr(step.how, name))
        yield from (text for text in step.how.variables.values() if not is_reference(text))


def _leaves(data: Any) -> Iterator[str]:
    if isinstance(data, str):
        yield data
    elif isinstance(data, Mapping):
        for value in data.values():
            yield from _leaves(value)
    elif isinstance(data, list | tuple):
        for value in data:
            yield from _leaves(value)


def fill(written: Any, values: Mapping[str, Any]) -> Any:
    """A text, or the texts in lists and tables, with values in place of braces. LookupError names a missing one."""
    if isinstance(written, str):
        return _PLACE.sub(lambda match: _text_of(match[1], values) if match[1] else match[0][0], written)
    if isinstance(written, Mapping):
        return {key: fill(value, values) for key, value in written.items()}
    if isinstance(written, (list, tuple)):
        return type(written)(fill(value, values) for value in written)
    return written


def _text_of(name: str, values: Mapping[str, Any]) -> str:
    """The value of a name, or of a field of a value: `{site.id}`."""
    if name in values:
        found: Any = values[name]
    else:
        root, *fields = name.split(".")
        if root not in values:
            raise LookupError(f"no step has learnt {name} yet")
        found = values[root]
        for field in fields:
            if not isinstance(found, Mapping) or field not in found:
                raise LookupError(f"{root} has no {field}")
            found = found[field]
    if isinstance(found, bool):
        return str(found).lower()
    if isinstance(found, (str, int, float)):
        return str(found)
    raise LookupError(f"{name} is a list or a table, not a text")
