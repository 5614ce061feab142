"""What a format of documents is to the rest: places with values, and how these places are written."""

from abc import ABC, abstractmethod
from collections.abc import Callable, Hashable, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from typing import TypeVar

__all__ = ["Document", "Format", "Node", "Notation", "Plain", "first_byte", "members_without", "tokens_of", "without"]

T = TypeVar("T")


class Node(ABC):
    """One place of a document, read only as far as it is asked about."""

    @property
    @abstractmethod
    def value(self) -> str | None:
        """Its own value; None where there is only what stands under it."""

    @property
    @abstractmethod
    def fields(self) -> Mapping[str, "Node"]:
        """What stands under it by name, in no order."""

    @property
    @abstractmethod
    def lists(self) -> Mapping[str, Sequence["Node"]]:
        """Lists of entries by name."""

    @property
    @abstractmethod
    def essence(self) -> Hashable:
        """Equal only for nodes that mean the same."""

    @property
    def text(self) -> str:
        """All of it, on one line."""
        return self.value or ", ".join(f"{name} {node.text}" for name, node in self.fields.items())

    def scalar(self, name: str) -> str | None:
        """The value of a field that is nothing but a value."""
        node = self.fields.get(name)
        return node.value if node and not node.fields and not node.lists else None


class Plain(Node):
    """A place that was read as a whole."""

    def __init__(
        self,
        value: str | None = None,
        fields: Mapping[str, Node] | None = None,
        lists: Mapping[str, Sequence[Node]] | None = None,
    ) -> None:
        self._value, self._fields, self._lists = value, fields or {}, lists or {}

    @property
    def value(self) -> str | None:
        return self._value

    @property
    def fields(self) -> Mapping[str, Node]:
        return self._fields

    @property
    def lists(self) -> Mapping[str, Sequence[Node]]:
        return self._lists

    @property
    def essence(self) -> Hashable:
        fields = frozenset((name, node.essence) for name, node in self.fields.items())
        lists = [(name, *(node.essence for node in nodes)) for name, nodes in self.lists.items()]
        return self.value, fields, tuple(lists)


class Notation:
    """How places and pieces of one kind of document are written."""

    root = ""
    mixed = False  # whether a place may have a value of its own beside what stands under it

    def named(self, path: str, name: str) -> str:
        """The place of a field."""
        return f"{path}/{name}"

    def listed(self, path: str, name: str, index: int, key: tuple[str, str] | None, *, alone: bool) -> str:
        """The place of an entry of a list: the `index`th from 0, known by a key, or the only one there is."""
        if alone and key is None:
            return f"{path}/{name}"
        return f"{path}/{name}" + (f"[{key[0]}='{key[1]}']" if key else f"[{index + 1}]")


@dataclass(frozen=True)
class Document:
    """A parsed document."""

    kind: str
    root: Node
    notation: Notation


class Format(ABC):
    """A format of documents: a module here defines one, which is found by its folder."""

    turn: int = 50  # of those that claim a content the one with the lowest is asked first

    @abstractmethod
    def claims(self, name: str, start: bytes) -> bool:
        """Whether a part of this name, in small letters, whose first byte that says something is this, may be one."""

    @abstractmethod
    def parse(self, content: bytes, xpaths: Sequence[str], pointers: Sequence[str]) -> Document | None:
        """The document, without what stands at these places; None, or ValueError and the like, when it is none."""


def without(node: Node, pointers: Sequence[str]) -> Node:
    """A node without what stands at these JSON Pointers (RFC 6901), in which `*` is any name or number.

    Names are those of fields, numbers those of entries of its list without a name, from 0.
    """
    for pointer in pointers:
        node = _pruned(node, tokens_of(pointer))
    return node


def tokens_of(pointer: str) -> list[str]:
    """The names and numbers that a JSON Pointer goes through (RFC 6901 section 4)."""
    return [part.replace("~1", "/").replace("~0", "~") for part in pointer.split("/")[1:]]


def _pruned(node: Node, tokens: Sequence[str]) -> Node:
    fields = dict(members_without(node.fields.items(), tokens, _pruned))
    entries = [(str(at), entry) for at, entry in enumerate(node.lists.get("", ()))]
    lists = (
        {**node.lists, "": [entry for _, entry in members_without(entries, tokens, _pruned)]} if entries else node.lists
    )
    return Plain(node.value, fields, lists)


def members_without(
    members: Iterable[tuple[str, T]], tokens: Sequence[str], prune: Callable[[T, Sequence[str]], T]
) -> Iterator[tuple[str, T]]:
    """Members by their names, or numbers, without those that stand at a pointer; `prune` does so further in."""
    first, *rest = tokens
    for name, member in members:
        if first not in ("*", name):
            yield name, member
        elif rest:
            yield name, prune(member, rest)


def first_byte(content: bytes) -> bytes:
    """The first byte that says something, by which formats are distinguished."""
    return content[:2048].lstrip(b"\xef\xbb\xbf \t\r\n")[:1]
