"""From the tables of procedures to typed ones: the transport says which class, the verb of each step which other.

As with all tables every mistake is found in one go, each with its place.
"""

from collections.abc import Iterable, Iterator, Mapping
from functools import cache
from typing import Any, NamedTuple

from historon.estate.checking import Path, Problem, problems_of
from historon.estate.kinds import MORE_VERBS, TRANSPORTS
from historon.estate.procedures import Procedure
from historon.estate.steps import ASKING, VERBS, Clauses, Pull, Put, Step
from historon.estate.table import Name, field_names, nearest
from historon.estate.table_reading import missing, table_made, table_values, unknown_key

__all__ = ["read_procedures", "typed_procedure"]

_PUSHING = ("push", "push_confirm")  # lists of steps beside `steps`
_KEEPING = ("as", "ends_with", "min_size")


def read_procedures(table: object) -> tuple[dict[str, Procedure | None], list[Problem]]:
    """Each procedure by its name, None for one that is wrong; and what is wrong."""
    if not isinstance(table, dict):
        return {}, [*problems_of(table, dict[str, object], ("procedures",))] if table is not None else []
    found: dict[str, Procedure | None] = {}
    problems: list[Problem] = []
    for name, one in table.items():
        path = ("procedures", name)
        problems += problems_of(name, Name, path)
        found[name], wrong = typed_procedure(one, path)
        problems += wrong
    return found, problems


def typed_procedure(data: object, path: Path = ()) -> tuple[Procedure | None, list[Problem]]:
    """A procedure, None for one that is wrong; and what is wrong."""
    if not isinstance(data, dict):
        return None, [*problems_of(data, dict[str, object], path)]
    kind = TRANSPORTS.get(str(data.get("over")))
    if kind is None:
        return None, [_no_transport(data, path)]
    steps, problems = _steps(data.get("steps"), kind, (*path, "steps"))
    if "steps" not in data:
        problems.append(Problem(path, '"steps" is missing', "add it"))
    lists: dict[str, tuple[Step, ...]] = {"steps": steps}
    for key in _PUSHING:
        lists[key], wrong = _steps(data.get(key), kind, (*path, key))
        problems += wrong
    rest = {key: value for key, value in data.items() if key not in ("over", "steps", *_PUSHING)}
    foreign = _foreign_settings(rest, kind)
    for key, owners in foreign.items():
        problems.append(Problem(path, f"over {kind.over} has no {key}", f"it belongs to {', '.join(owners)}"))
    problems += missing(kind.needed, rest, f"over {kind.over}", path)
    known = {key: value for key, value in rest.items() if key not in foreign}
    values, wrong = table_values(kind, known, path)
    problems += wrong
    if problems:
        return None, problems
    return table_made(kind, {**values, **lists}, path)


def _no_transport(data: Mapping[str, Any], path: Path) -> Problem:
    if "over" not in data:
        return Problem(path, '"over" is missing', "add it")
    return Problem((*path, "over"), f'"{data["over"]}" is not possible here', nearest(str(data["over"]), TRANSPORTS))


def _foreign_settings(data: Mapping[str, Any], kind: type[Procedure]) -> Mapping[str, list[str]]:
    """Keys that only procedures over other transports have, with these."""
    unknown = [key for key in data if key not in field_names(kind)]
    if not unknown:
        return {}  # without a look at the other transports, whose modules are not loaded then
    owners = _owners_of_settings()
    return {key: owners[key] for key in unknown if key in owners}


# ---- steps -----------------------------------------------------------------------------------------------------------


class _Kind(NamedTuple):
    """What steps of one verb are over one transport: their class, and that of what its transport has to say besides."""

    step: type[Step]
    how: type[Clauses] | None

    @property
    def clauses(self) -> frozenset[str]:
        """The keys of what its transport has to say besides."""
        return field_names(self.how) if self.how else frozenset()


def _kind(verb: str, over: type[Procedure]) -> _Kind:
    step = VERBS.get(verb) or MORE_VERBS[verb]
    if step is Pull:
        return _Kind(step, over.pulling)
    if step is Put:
        return _Kind(step, over.putting)
    return _Kind(step, over.asking if issubclass(step, ASKING) else None)


def _steps(data: object, over: type[Procedure], path: Path) -> tuple[tuple[Step, ...], list[Problem]]:
    """Those that are right, and what is wrong with the others."""
    if not isinstance(data, list):
        return (), [*problems_of(data, list[object], path)] if data is not None else []
    problems: list[Problem] = []
    steps: list[Step] = []
    for index, one in enumerate(data):
        step, wrong = _step(one, over, (*path, index))
        steps += [step] if step else []
        problems += wrong
    return tuple(steps), problems


def _step(data: object, over: type[Procedure], path: Path) -> tuple[Step | None, list[Problem]]:
    if not isinstance(data, dict):
        return None, [*problems_of(data, dict[str, object], path)]
    verbs = [verb for verb in VERBS if verb in data] or [key for key in data if key in MORE_VERBS]
    if len(verbs) != 1:
        *most, last = VERBS
        return None, [Problem(path, f"a step has exactly one of {', '.join(most)} and {last}")]
    kind = _kind(verbs[0], over)
    own_keys = field_names(kind.step) - {"says", "how"}
    inside: tuple[Step, ...] = ()
    problems: list[Problem] = []
    if "steps" in own_keys:
        inside, problems = _steps(data.get("steps"), over, (*path, "steps"))
    strange = [*_strange(data, kind, over, path)]
    problems += strange or missing(kind.step.needed, data, kind.step.verb, path)
    own = {key: data[key] for key in data if key in own_keys - {"steps"} or key == kind.step.verb}
    values, wrong = table_values(kind.step, own, path, kind.step.verb)
    problems += wrong
    if "steps" in own_keys:
        values["steps"] = inside
    if kind.how is not None:
        theirs = {key: data[key] for key in data if key in field_names(kind.how)}
        problems += missing(kind.how.needed, data, kind.step.verb, path)
        how, wrong = table_values(kind.how, theirs, path)
        values["how"], unmade = table_made(kind.how, how, path) if not wrong else (None, wrong)
        problems += unmade
    if problems:
        return None, problems
    return table_made(kind.step, values, path)


def _strange(data: Mapping[str, Any], kind: _Kind, over: type[Procedure], path: Path) -> Iterator[Problem]:
    """Clauses that belong to other verbs or transports, or to nothing."""
    verb = kind.step.verb
    known = {verb, *kind.clauses, *field_names(kind.step)} - {"says", "how"}
    for key in data:
        if key in known:
            continue
        owners = _owners_of_clauses()
        if key not in owners:
            yield unknown_key(key, known, path)
            continue
        takers = [verb for verb in VERBS if verb in owners[key]]
        if verb not in takers and key in _KEEPING:
            yield Problem(path, f"{verb} stores no part, so it takes no as, ends_with or min_size", "use keep")
        elif verb not in takers:
            yield Problem(path, f"{verb} takes no {key}", f"it belongs to {', '.join(takers)}")
        elif kind.how is not None:
            belongs = sorted(name for name, one in TRANSPORTS.items() if key in _kind(verb, one).clauses)
            yield Problem(path, f"over {over.over} a step has no {key}", f"it belongs to {', '.join(belongs)}")


# ---- whose a key is, for messages ------------------------------------------------------------------------------------


@cache
def _owners_of_settings() -> Mapping[str, list[str]]:
    """Settings that not every transport has, with the transports that have it."""
    common = field_names(Procedure)
    return _grouped((key, name) for name, kind in TRANSPORTS.items() for key in field_names(kind) - common)


@cache
def _owners_of_clauses() -> Mapping[str, list[str]]:
    """Clauses of steps, with the verbs that they belong to over any transport."""
    found: list[tuple[str, str]] = []
    for verb in VERBS:
        for over in TRANSPORTS.values():
            kind = _kind(verb, over)
            keys = (field_names(kind.step) - {"says", "how", "when", "deadline"}) | kind.clauses
            found += [(key, verb) for key in keys]
    return _grouped(found)


def _grouped(pairs: Iterable[tuple[str, str]]) -> Mapping[str, list[str]]:
    found: dict[str, set[str]] = {}
    for key, name in pairs:
        found.setdefault(key, set()).add(name)
    return {key: sorted(names) for key, names in found.items()}
