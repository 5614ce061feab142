"""Exports that are documents, as one kind of tree, whatever they are written in: a module a format."""

import pkgutil
from collections.abc import Sequence
from functools import cache
from importlib import import_module

from historon.compare.documents.interface import Document, Format, Node, Notation, first_byte
from historon.compare.documents.tree import parse_trees
from historon.compare.documents.xml import parsed_xml, same_meaning, xml_places

__all__ = ["Document", "Node", "Notation", "parse_document", "parse_trees", "parsed_xml", "same_meaning", "xml_places"]


def parse_document(
    name: str, content: bytes, *, xpaths: Sequence[str] = (), pointers: Sequence[str] = ()
) -> Document | None:
    """The document that a part is, without what stands at these places; None when it is no document."""
    start, lowered = first_byte(content), name.lower()
    for one in _formats():
        if one.claims(lowered, start):
            try:
                made = one.parse(content, xpaths, pointers)
            except (ValueError, RecursionError):
                continue
            if made is not None:
                return made
    return None


@cache
def _formats() -> list[Format]:
    """One of each class of a format that a module here defines."""
    modules = [import_module(f"{__name__}.{one.name}") for one in pkgutil.iter_modules(__path__)]
    made = {each for module in modules for each in vars(module).values() if isinstance(each, type)}
    formats = [each() for each in made if issubclass(each, Format) and each is not Format]
    return sorted(formats, key=lambda one: one.turn)
