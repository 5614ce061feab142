"""An area of an XML or JSON document, by its place: as it is written there, for somebody who wants no more of it."""

from collections.abc import Sequence
from typing import Any

import msgspec

from historon.compare.documents import parsed_xml, xml_places

__all__ = ["area_of"]

_XML_SPACE = b" \t\r\n"


def area_of(content: bytes, place: str) -> bytes:
    """What stands at a place of a document: an XPath 1.0 expression, or a JSON Pointer (RFC 6901); empty for nothing.

    Values of JSON are as they are written, byte for byte; elements of XML are written again, with the namespaces that
    they stand in, attributes and texts as what they hold.
    """
    if not place.startswith("/"):
        return b""
    head = content.lstrip(_XML_SPACE)[:1]
    if head == b"<":
        return _of_xml(content, place)
    return _of_json(content, place) if head in (b"{", b"[") else b""


def _of_xml(content: bytes, place: str) -> bytes:
    root = parsed_xml(content)
    found: Sequence[Any] = xml_places(root, place) if root is not None else ()
    return b"".join(_written(one) + b"\n" for one in found)


def _written(found: Any) -> bytes:
    from lxml import etree

    if isinstance(found, str):
        return str(found).encode()
    return bytes(etree.tostring(found, encoding="utf-8", with_tail=False))


def _of_json(content: bytes, place: str) -> bytes:
    at: Any = msgspec.Raw(content)
    try:
        for token in place.split("/")[1:]:
            name = token.partition(" (")[0].replace("~1", "/").replace("~0", "~")  # as a diff shows it, its key behind
            kind = bytes(at).lstrip(_XML_SPACE)[:1]
            if kind == b"{":
                at = msgspec.json.decode(at, type=dict[str, msgspec.Raw])[name]
            elif kind == b"[" and name.isdecimal():
                at = msgspec.json.decode(at, type=list[msgspec.Raw])[int(name)]
            else:
                return b""
    except (msgspec.DecodeError, UnicodeError, LookupError, RecursionError):
        return b""
    return bytes(at).strip(_XML_SPACE) + b"\n"
