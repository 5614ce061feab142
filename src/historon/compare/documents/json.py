"""JSON: objects, whose order means nothing, and arrays, whose order does."""

import json
from collections.abc import Hashable, Mapping, Sequence
from decimal import Decimal
from functools import cached_property
from typing import Any

from historon.compare.documents.interface import Document, Format, Node, Notation, members_without, tokens_of

__all__ = ["Json"]

_QUOTE = '"'


class _JsonNode(Node):
    """A value of JSON; what is neither an object nor an array has itself, as it is written, for a value."""

    def __init__(self, data: Any) -> None:
        self._data = data

    @property
    def value(self) -> str | None:
        return None if isinstance(self._data, dict | list) else self.text

    @cached_property
    def fields(self) -> Mapping[str, Node]:
        if isinstance(self._data, dict):
            return {name: _JsonNode(value) for name, value in self._data.items()}
        return {}

    @cached_property
    def lists(self) -> Mapping[str, Sequence[Node]]:
        if isinstance(self._data, list):
            return {"": [_JsonNode(value) for value in self._data]}
        return {}

    @cached_property
    def essence(self) -> Hashable:
        return json.dumps(self._data, sort_keys=True)

    @property
    def text(self) -> str:
        return json.dumps(self._data, ensure_ascii=False)


class _Json(Notation):
    """JSON Pointers (RFC 6901); an entry known by a key is followed by it."""

    def named(self, path: str, name: str) -> str:
        return f"{path}/{name.replace('~', '~0').replace('/', '~1')}"

    def listed(self, path: str, name: str, index: int, key: tuple[str, str] | None, *, alone: bool) -> str:
        return f"{path}/{index}" + (f" ({key[0]} {key[1].strip(_QUOTE)})" if key else "")


class Json(Format):
    """JSON (RFC 8259)."""

    turn = 20

    def claims(self, name: str, start: bytes) -> bool:
        return start in (b"{", b"[")

    def parse(self, content: bytes, xpaths: Sequence[str], pointers: Sequence[str]) -> Document | None:
        data = json.loads(content, object_pairs_hook=_named_once, parse_float=_exact, parse_constant=_no_such_number)
        for pointer in pointers:  # in the data, so that what is left is shown as JSON
            data = _pruned(data, tokens_of(pointer))
        return Document("json", _JsonNode(data), _Json())


def _named_once(pairs: Sequence[tuple[str, Any]]) -> dict[str, Any]:
    """An object; one that has a name twice says something that no tree can hold (RFC 8259 section 4)."""
    found = dict(pairs)
    if len(found) < len(pairs):
        raise ValueError("a name appears twice")
    return found


def _exact(text: str) -> float:
    """A number; one with digits that would be lost is none."""
    number = float(text)
    if Decimal(repr(number)) != Decimal(text):
        raise ValueError("more digits than are supported")
    return number


def _no_such_number(text: str) -> float:
    raise ValueError(f"{text} is not a number (RFC 8259 section 6)")


def _pruned(data: Any, tokens: Sequence[str]) -> Any:
    """The data without what stands at a pointer, in which `*` is any name or number."""
    if isinstance(data, dict):
        return dict(members_without(data.items(), tokens, _pruned))
    if isinstance(data, list):
        members = [(str(index), value) for index, value in enumerate(data)]
        return [value for _, value in members_without(members, tokens, _pruned)]
    return data
