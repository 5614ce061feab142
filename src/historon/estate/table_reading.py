"""From plain tables to typed ones whose class is known by one of their keys; with every mistake and its place."""

from collections.abc import Collection, Iterator, Mapping
from typing import Any, TypeVar

import msgspec
from msgspec.structs import FieldInfo

from historon.estate.checking import Path, Problem, convert, problems_of
from historon.estate.table import Name, Table, nearest

__all__ = ["missing", "read_kinds", "table_made", "table_values", "unknown_key"]

T = TypeVar("T", bound=Table)


def read_kinds(
    table: object, kinds: Mapping[str, type[T]], path: Path, what: str, default: str | None = None
) -> tuple[dict[str, T | None], list[Problem]]:
    """Tables that say their `kind`, by their names: None for one that is wrong; and what is wrong.

    `what` is how a message calls one of them, `default` the kind of those that do not say it.
    """
    if not isinstance(table, dict):
        return {}, [*problems_of(table, dict[str, object], path)] if table is not None else []
    found: dict[str, T | None] = {}
    problems: list[Problem] = []
    for name, one in table.items():
        problems += problems_of(name, Name, (*path, name))
        found[name], wrong = _of_its_kind(one, kinds, (*path, name), what, default)
        problems += wrong
    return found, problems


def _of_its_kind(
    data: object, kinds: Mapping[str, type[T]], path: Path, what: str, default: str | None
) -> tuple[T | None, list[Problem]]:
    if not isinstance(data, dict):
        return None, [*problems_of(data, dict[str, object], path)]
    named = data.get("kind", default)
    if named is None:
        return None, [Problem(path, '"kind" is missing', f"one of {', '.join(kinds)}")]
    if str(named) not in kinds:
        return None, [Problem(path, f'"{named}" is not a kind of {what}', nearest(str(named), kinds))]
    kind = kinds[str(named)]
    values, problems = table_values(kind, {key: data[key] for key in data if key != "kind"}, path)
    return (None, problems) if problems else table_made(kind, values, path)


def missing(needed: Mapping[str, str], data: Mapping[str, Any], what: str, path: Path) -> Iterator[Problem]:
    """Keys that cannot be left out and are; each is `needed` with how it could be written."""
    for key, wanted in needed.items():
        if key not in data:
            message, _, hint = wanted.partition(" (")
            yield Problem(path, f"{what} needs {message}", hint.removesuffix(")"))


def unknown_key(key: str, known: Collection[str], path: Path) -> Problem:
    """A key that a table does not have, with the one that may have been meant."""
    hint = nearest(key, known)
    return Problem((*path, key), "this key is not known", hint)


def table_values(
    kind: type[Any], data: Mapping[str, Any], path: Path, verb: str = ""
) -> tuple[dict[str, Any], list[Problem]]:
    """The typed values of a table's keys, and what is wrong with them. What a step says is written under its verb."""
    values: dict[str, Any] = {}
    problems: list[Problem] = []
    fields = {_written(one, verb): one for one in msgspec.structs.fields(kind) if one.name not in kind.read_apart}
    for key, value in data.items():
        if key not in fields:
            problems.append(unknown_key(key, fields, path))
            continue
        try:
            values[fields[key].name] = convert(value, fields[key].type)
        except msgspec.ValidationError:
            problems += problems_of(value, fields[key].type, (*path, key))
    for key, one in fields.items():
        if one.required and key not in data and key not in getattr(kind, "needed", ()):
            problems.append(Problem(path, f'"{key}" is missing', "add it"))
    return values, problems


def _written(field: FieldInfo, verb: str) -> str:
    return verb if field.name == "says" else field.encode_name


def table_made(kind: type[T], values: Mapping[str, Any], path: Path) -> tuple[T | None, list[Problem]]:
    """A table of its kind, or what is wrong with it as a whole."""
    try:
        return kind(**values), []
    except ValueError as exc:
        message, _, hint = str(exc).partition(" (")
        return None, [Problem(path, message, hint.removesuffix(")"))]
