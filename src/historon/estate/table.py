"""What all tables of the estate file have in common, and what may have been meant by a word that none of them knows."""

import difflib
from collections.abc import Iterable, Iterator
from functools import cache
from typing import Annotated, ClassVar

from msgspec import Meta, Struct
from msgspec.structs import FieldInfo, fields

__all__ = ["Count", "Name", "Port", "Table", "field_names", "given", "nearest"]

Name = Annotated[
    str,
    Meta(
        pattern=r"^[A-Za-z0-9][A-Za-z0-9._-]{0,99}$",
        description="letters, digits, dots, dashes and underscores, beginning with a letter or digit",
    ),
]
Port = Annotated[int, Meta(ge=1, le=65535)]
Count = Annotated[int, Meta(ge=1)]


class Table(Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    """Common to all tables: immutable, and a key that is not known is a mistake.

    The fields that are `read_apart` have keys of their own, which are read by other classes.
    """

    read_apart: ClassVar[tuple[str, ...]] = ()


@cache
def _fields(table: type[Struct]) -> tuple[FieldInfo, ...]:
    return fields(table)


@cache
def field_names(table: type[Struct]) -> frozenset[str]:
    """The keys that a table may have, as they are written."""
    return frozenset(table.__struct_encode_fields__)


def given(table: Struct) -> Iterator[tuple[str, object]]:
    """The keys of a table that say something, as they are written, each with what it says."""
    for one in _fields(type(table)):
        value = getattr(table, one.name)
        if value not in (None, False, (), {}) and (one.required or value != one.default):
            yield one.encode_name, value


_MOST = 12  # valid words that a hint names


def nearest(word: str, known: Iterable[str]) -> str:
    """A hint with the nearest valid spelling, or with what is valid where nothing is near."""
    names = sorted(known)
    near = difflib.get_close_matches(word.lower(), names, n=1, cutoff=0.5)
    if near:
        return f'did you mean "{near[0]}"?'
    if not names:
        return ""
    more = " …" if len(names) > _MOST else ""
    return f"one of {', '.join(names[:_MOST])}{more}"
