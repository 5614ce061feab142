"""Sources that would take each other's exports: patterns of what arrives in one place, and can name the same file."""

from collections.abc import Iterator, Sequence
from fnmatch import fnmatchcase
from functools import lru_cache

from historon.estate.checking import Parts, Problem
from historon.estate.model import Source
from historon.estate.procedures import Procedure
from historon.estate.steps import Pull, walk
from historon.estate.values import fill, values_of

__all__ = ["arrival_place", "overlap_problems", "same_device_problems"]

_WILD = "*?["
_OWN = ("{name}", "{label.")  # by which two sources of one address are asked for different things
_LETTERS = range(32, 127)
_Taker = tuple[str, str, int]  # what begins every name, the pattern, and which source


def overlap_problems(file: Parts) -> Iterator[Problem]:
    """Each source that shares files with one before it: neither would know whose they are."""
    places: dict[tuple[object, ...], list[_Taker]] = {}
    for index, source in enumerate(file.sources):
        procedure = file.procedures.get(source.procedure) if source else None
        if source is not None and procedure is not None and procedure.arriving:
            for place, pattern in _taken(source, procedure):
                beginning = pattern[: min((pattern.find(one) for one in _WILD if one in pattern), default=len(pattern))]
                places.setdefault(place, []).append((beginning, pattern, index))
    for takers in places.values():
        for one, other in _shared(sorted(takers)):
            first, later = sorted([one, other], key=lambda taker: taker[2])
            yield _problem(file, later, first)


def same_device_problems(file: Parts) -> Iterator[Problem]:
    """Each source that asks the same device for the same as one before it: one of the two has a wrong address."""
    asked: dict[tuple[object, ...], str] = {}
    for index, source in enumerate(file.sources):
        procedure = file.procedures.get(source.procedure) if source else None
        if source is None or procedure is None or procedure.arriving or not source.address:
            continue
        values = tuple(sorted((name, repr(value)) for name, value in source.values.items()))
        what = (source.address, source.port, source.via, source.credentials, source.procedure, values)
        written = repr(procedure)
        if any(own in written for own in _OWN):
            continue
        other = asked.setdefault(what, source.name)
        if other != source.name:
            problem = f"has the address, the procedure and the values of {other}: both are one device"
            yield Problem(("sources", index), problem, "correct its address, or remove one of the two")


def arrival_place(source: Source, procedure: Procedure) -> tuple[object, ...]:
    """Where exports of a source arrive: a folder, or the account of a server. LookupError where a value is missing."""
    place = str(fill(procedure.place, values_of(source, procedure)))
    return (procedure.over, place) if place else (procedure.over, source.address, source.port, source.credentials)


def _taken(source: Source, procedure: Procedure) -> Iterator[tuple[tuple[object, ...], str]]:
    """Where a source takes what from, and the pattern of each step; nothing where a value is missing."""
    values = values_of(source, procedure)
    for _, step in walk(procedure.steps):
        if not isinstance(step, Pull):
            continue
        try:
            where, pattern = arrival_place(source, procedure), str(fill(step.says, values))
        except LookupError:
            continue
        # Of mails, who sent them and what they are about tells whose they are: only the same question is the same.
        filters = tuple(str(getattr(step.how, name, None)) for name in ("sender", "subject"))
        yield (*where, *filters), pattern


def _shared(takers: Sequence[_Taker]) -> Iterator[tuple[_Taker, _Taker]]:
    """Those that can name one file. They are sorted: of two that do, one begins as the other does."""
    for at, one in enumerate(takers):
        for other in takers[at + 1 :]:
            if not other[0].startswith(one[0]):
                break
            if one[2] != other[2] and _meet(one[1], other[1]):
                yield one, other


def _problem(file: Parts, later: _Taker, first: _Taker) -> Problem:
    source, other = file.sources[later[2]], file.sources[first[2]]
    names = (source.name, other.name) if source and other else ("", "")
    problem = f"takes the same files as {names[1]}: {later[1]} and {first[1]} can be one name"
    return Problem(
        ("sources", later[2]), problem, "distinguish them, such as by {name}-[0-9]*, or give each a separate folder"
    )


@lru_cache(maxsize=65536)
def _meet(one: str, other: str) -> bool:
    """Whether a name can match both patterns (fnmatch)."""
    first, second = _tokens(one), _tokens(other)
    states = {(0, 0)}
    seen: set[tuple[int, int]] = set()
    while states:
        at, by = states.pop()
        if (at, by) in seen:
            continue
        seen.add((at, by))
        if at == len(first) and by == len(second):
            return True
        here, there = first[at : at + 1], second[by : by + 1]
        if here == ["*"]:
            states |= {(at + 1, by), *([(at, by + 1)] if there else [])}
        if there == ["*"]:
            states |= {(at, by + 1), *([(at + 1, by)] if here else [])}
        if here and there and "*" not in (here[0], there[0]) and _alike(here[0], there[0]):
            states.add((at + 1, by + 1))
    return False


def _tokens(pattern: str) -> list[str]:
    """Letters, `*`, `?`, and sets in brackets as a whole."""
    found, at = [], 0
    while at < len(pattern):
        end = pattern.find("]", at + 2) if pattern[at] == "[" else -1
        token = pattern[at : end + 1] if end > 0 else pattern[at]
        found.append(token)
        at += len(token)
    return found


def _alike(one: str, other: str) -> bool:
    """Whether one letter can match both tokens."""
    if len(one) > 1 and len(other) > 1:
        return any(fnmatchcase(chr(code), one) and fnmatchcase(chr(code), other) for code in _LETTERS)
    if len(other) > 1 or other == "?":
        one, other = other, one
    return one == "?" or other == "?" or fnmatchcase(other, one)
