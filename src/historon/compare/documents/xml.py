"""XML: elements and attributes, whatever their order, prefixes and white space."""

import re
from collections.abc import Hashable, Mapping, Sequence
from functools import cached_property
from typing import Any

from historon.compare.documents.interface import Document, Format, Node, Notation, Plain, first_byte

__all__ = ["Xml", "parsed_xml", "same_meaning", "xml_places"]

_LONG_TAG = re.compile(rb"<[^<>]{40000}")


class _XmlNode(Node):
    """An element; its attributes are fields, its children lists by their names."""

    def __init__(self, element: Any) -> None:
        self._element = element

    @cached_property
    def value(self) -> str | None:
        words = [self._element.text or "", *(child.tail or "" for child in self._element)]
        text = " ".join(word.strip() for word in words if word.strip())
        return text if text or not len(self._element) else None

    @cached_property
    def fields(self) -> Mapping[str, Node]:
        found: dict[str, Node] = {
            f"@{key.rpartition('}')[2]}": Plain(value) for key, value in self._element.attrib.items()
        }
        # Namespaces count, prefixes do not.
        parent = self._element.getparent()
        space = _space(self._element)
        if space and (parent is None or _space(parent) != space):
            found["@xmlns"] = Plain(space)
        return found

    @cached_property
    def lists(self) -> Mapping[str, Sequence[Node]]:
        found: dict[str, list[Node]] = {}
        for child in self._element.iterchildren(tag=_etree().Element):
            found.setdefault(_local(child), []).append(_XmlNode(child))
        return found

    @cached_property
    def essence(self) -> Hashable:
        etree = _etree()
        try:
            return bytes(etree.tostring(self._element, method="c14n", exclusive=True, with_tail=False))
        except etree.LxmlError:  # what cannot be made canonical, as with a relative namespace, is taken as written
            return bytes(etree.tostring(self._element, with_tail=False))

    @property
    def text(self) -> str:
        raw = _etree().tostring(self._element, encoding="unicode", with_tail=False)
        return re.sub(r'\s+xmlns(?::\w+)?="[^"]*"', "", " ".join(raw.split()))

    def scalar(self, name: str) -> str | None:
        if name.startswith("@"):
            value: str | None = self._element.get(name[1:])
            return value
        found = None
        for child in self._element.iterchildren(tag=_etree().Element):
            if _local(child) == name:
                if found is not None or len(child):
                    return None
                found = child
        return None if found is None else (found.text or "").strip()


class _Xml(Notation):
    """XPath 1.0 abbreviated; names without their prefixes."""

    mixed = True


class Xml(Format):
    """XML (W3C, 1.0)."""

    turn = 10

    def claims(self, name: str, start: bytes) -> bool:
        return start == b"<"

    def parse(self, content: bytes, xpaths: Sequence[str], pointers: Sequence[str]) -> Document | None:
        root = _xml_root(content, xpaths, remove_pis=True, remove_blank_text=True)
        if root is None:
            return None
        return Document("xml", Plain(lists={_local(root): [_XmlNode(root)]}), _Xml())


def _xml_root(content: bytes, xpaths: Sequence[str], **also: bool) -> Any:
    """The root of an XML document without what stands at these places; None when it is none that can be judged.

    Entities are not expanded, nothing is fetched, depth and size of text are bounded (huge_tree). A tag of thousands of
    attributes is not taken apart, as the library looks for each from the first.
    """
    etree = _etree()
    if _LONG_TAG.search(content):
        return None
    parser = etree.XMLParser(
        resolve_entities=False, no_network=True, load_dtd=False, huge_tree=False, remove_comments=True, **also
    )
    try:
        root = etree.fromstring(content, parser)
    except (etree.XMLSyntaxError, ValueError):
        return None
    if root.getroottree().docinfo.doctype:  # it may define what the text only refers to
        return None
    for expression in xpaths:
        _cut(root, expression)
    return root


def parsed_xml(content: bytes) -> Any:
    """The root of an XML document, comments left out; None where it is none that can be judged."""
    return _xml_root(content, ())


def xml_places(root: Any, expression: str) -> Sequence[Any]:
    """What an XPath finds; names without a prefix are meant in any namespace."""
    from lxml import etree

    try:
        places = root.xpath(expression) or root.xpath(_any_namespace(expression))
    except etree.XPathError:  # a prefix that means nothing in this document, or no expression at all
        return ()
    return places if isinstance(places, list) else ()


def _cut(root: Any, expression: str) -> None:
    """Take what an XPath finds out of the tree."""
    for found in xml_places(root, expression):
        parent: Any = found.getparent() if hasattr(found, "getparent") else None
        if parent is None:
            continue
        if getattr(found, "is_attribute", False):
            del parent.attrib[found.attrname]
        elif getattr(found, "is_text", False):
            parent.text = None
        else:
            parent.remove(found)


def _any_namespace(expression: str) -> str:
    return re.sub(
        r"(?<=/)(?![\w.-]+(?:\(|::|:))([A-Za-z_][\w.-]*)", lambda name: f"*[local-name()='{name[1]}']", expression
    )


def _local(element: Any) -> str:
    return str(element.tag).rpartition("}")[2]


def _space(element: Any) -> str:
    """The namespace of an element."""
    return str(element.tag)[1:].partition("}")[0] if str(element.tag).startswith("{") else ""


def _etree() -> Any:
    from lxml import etree  # imported where it is used: most parts are no XML

    return etree


def same_meaning(old: bytes, new: bytes, xpaths: Sequence[str] = ()) -> bool:
    """Whether two documents whose trees do not differ mean the same in all else too.

    Of XML a tree keeps neither the order of elements of different names nor processing instructions nor where a text
    stands among them. Everything else that a tree does not keep has no meaning in its format, or it is no document.
    """
    if first_byte(old) != b"<":
        return True
    one, other = (_all_of_it(content, xpaths) for content in (old, new))
    return one is not None and one == other


def _all_of_it(content: bytes, xpaths: Sequence[str]) -> list[tuple[object, ...]] | None:
    """Everything in an XML document that means something, in its order; None where that cannot be said.

    White space between elements, comments, the order of attributes and the choice of prefixes mean nothing.
    """
    root = _xml_root(content, xpaths)
    if root is None:
        return None
    before = list(root.itersiblings(preceding=True))[::-1]
    after = list(root.itersiblings())
    found: list[tuple[object, ...]] = []
    for top in (*before, root, *after):
        if top is not root:  # an instruction beside the root, which cannot be walked
            found.append(("instruction", top.target, top.text or "", ""))
            continue
        for event, node in _etree().iterwalk(top, events=("start", "end", "pi")):
            if event == "end":
                found.append(("end", node.tail if node is not top and (node.tail or "").strip() else ""))
                continue
            text = node.text or ""
            if event == "pi":
                found.append(("instruction", node.target, text, (node.tail or "").strip()))
                continue
            leaf = len(node) == 0
            known = node.tag if isinstance(node.tag, str) else repr(node)
            found.append((known, tuple(sorted(node.attrib.items())), text if leaf or text.strip() else ""))
    return found
