"""Exports that are documents (XML, JSON, CSV, INI), as one kind of tree, whatever they are written in."""

import csv
import io
import json
import re
import stat
from abc import ABC, abstractmethod
from collections.abc import Hashable, Iterable, Iterator, Mapping, Sequence, Set
from dataclasses import dataclass
from decimal import Decimal
from functools import cached_property
from typing import Any

from historon.store import Member, read_tree

__all__ = [
    "Document",
    "Node",
    "Notation",
    "parse_document",
    "parse_trees",
    "parsed_xml",
    "same_meaning",
    "xml_places",
]

_LONG_TAG = re.compile(rb"<[^<>]{40000}")
_SECTION = re.compile(rb"^\[[^\[\]\n]+\]\s*$", re.MULTILINE)
_SETTING = re.compile(r"\s*([^=:;#\s][^=:\n]*?)\s*([=:])\s*(.*)")
_QUOTE = '"'


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


class _Plain(Node):
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
            f"@{key.rpartition('}')[2]}": _Plain(value) for key, value in self._element.attrib.items()
        }
        # Namespaces count, prefixes do not.
        parent = self._element.getparent()
        space = _space(self._element)
        if space and (parent is None or _space(parent) != space):
            found["@xmlns"] = _Plain(space)
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


class _Xml(Notation):
    """XPath 1.0 abbreviated; names without their prefixes."""

    mixed = True


class _Json(Notation):
    """JSON Pointers (RFC 6901); an entry known by a key is followed by it."""

    def named(self, path: str, name: str) -> str:
        return f"{path}/{name.replace('~', '~0').replace('/', '~1')}"

    def listed(self, path: str, name: str, index: int, key: tuple[str, str] | None, *, alone: bool) -> str:
        return f"{path}/{index}" + (f" ({key[0]} {key[1].strip(_QUOTE)})" if key else "")


class _Ini(Notation):
    """`[section] key`."""

    def named(self, path: str, name: str) -> str:
        return f"{path} {name}" if path else name


class _Csv(Notation):
    """Rows by their key, or by number, and columns by their headings."""

    def listed(self, path: str, name: str, index: int, key: tuple[str, str] | None, *, alone: bool) -> str:
        return f"[{key[0]}={key[1]}]" if key else f"row {index + 1}"


class _Tree(Notation):
    """Members of a tree by their names."""

    def named(self, path: str, name: str) -> str:
        return f"{path} ({name})" if path else name


@dataclass(frozen=True)
class Document:
    """A parsed document."""

    kind: str
    root: Node
    notation: Notation


def parse_document(
    name: str, content: bytes, *, xpaths: Sequence[str] = (), pointers: Sequence[str] = ()
) -> Document | None:
    """The document that a part is, without what stands at these places; None when it is no document."""
    start = _first(content)
    lowered = name.lower()
    try:
        if start == b"<":
            return _xml(content, xpaths)
        if start in (b"{", b"[") and (made := _json(content, pointers)) is not None:
            return made
        if lowered.endswith((".csv", ".tsv")):
            return _csv(content)
        if lowered.endswith((".ini", ".conf", ".cfg", ".properties", ".toml")) or start == b"[":
            return _ini(content)
    except (ValueError, RecursionError, UnicodeError, csv.Error):
        return None
    return None


def _first(content: bytes) -> bytes:
    """The first byte that says something, by which formats are distinguished."""
    return content[:2048].lstrip(b"\xef\xbb\xbf \t\r\n")[:1]


def parse_trees(old: bytes, new: bytes) -> tuple[Document, Document]:
    """The metadata of a tree on both sides, without times, and without files that the other side lacks.

    Such files are parts of their own, which are reported anyway.
    """
    before = {member.name: member for member in read_tree(old)}
    after = {member.name: member for member in read_tree(new)}
    return _tree(before, after.keys()), _tree(after, before.keys())


def _tree(members: Mapping[str, Member], others: Set[str]) -> Document:
    """A tree without the files that the other one lacks, as these are reported as parts."""
    fields: dict[str, Node] = {}
    for name, member in members.items():
        if name in others or not stat.S_ISREG(member.mode):
            fields[name] = _member(member)
    return Document("tree", _Plain(fields=fields), _Tree())


def _member(member: Member) -> Node:
    facts = {"mode": stat.filemode(member.mode), "owner": member.owner, "target": member.target}
    return _Plain(fields={name: _Plain(value=value) for name, value in facts.items() if value is not None})


def _xml(content: bytes, xpaths: Sequence[str]) -> Document | None:
    root = _xml_root(content, xpaths, remove_pis=True, remove_blank_text=True)
    if root is None:
        return None
    return Document("xml", _Plain(lists={_local(root): [_XmlNode(root)]}), _Xml())


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


def _json(content: bytes, pointers: Sequence[str]) -> Document | None:
    try:
        data = json.loads(content, object_pairs_hook=_named_once, parse_float=_exact, parse_constant=_no_such_number)
    except ValueError:
        return None
    for pointer in pointers:
        tokens = [part.replace("~1", "/").replace("~0", "~") for part in pointer.split("/")[1:]]
        data = _pruned(data, tokens)
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


def same_meaning(old: bytes, new: bytes, xpaths: Sequence[str] = ()) -> bool:
    """Whether two documents whose trees do not differ mean the same in all else too.

    Of XML a tree keeps neither the order of elements of different names nor processing instructions nor where a text
    stands among them. Everything else that a tree does not keep has no meaning in its format, or it is no document.
    """
    if _first(old) != b"<":
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


def _pruned(data: Any, tokens: Sequence[str]) -> Any:
    """The data without what stands at a pointer, in which `*` is any name or number."""
    if isinstance(data, dict):
        return dict(_pruned_members(data.items(), tokens))
    if isinstance(data, list):
        members = [(str(index), value) for index, value in enumerate(data)]
        return [value for _, value in _pruned_members(members, tokens)]
    return data


def _pruned_members(members: Iterable[tuple[str, Any]], tokens: Sequence[str]) -> Iterator[tuple[str, Any]]:
    """Members by their names, or numbers, without those that stand at a pointer."""
    first, *rest = tokens
    for name, value in members:
        if first not in ("*", name):
            yield name, value
        elif rest:
            yield name, _pruned(value, rest)


def _csv(content: bytes) -> Document | None:
    text = content.decode("utf-8-sig")
    delimiter = max(",;\t", key=text.partition("\n")[0].count)
    rows = [row for row in csv.reader(io.StringIO(text, newline=""), delimiter=delimiter, strict=True) if row]
    if len(rows) < 2 or len(header := rows[0]) < 2 or len(set(header)) < len(header):
        return None
    if any(len(row) != len(header) for row in rows):
        return None
    return Document("csv", _Plain(lists={"": list(_rows(header, rows[1:]))}), _Csv())


def _rows(header: Sequence[str], rows: Sequence[Sequence[str]]) -> Iterator[Node]:
    for row in rows:
        yield _Plain(fields={name: _Plain(value=cell) for name, cell in zip(header, row, strict=True)})


def _ini(content: bytes) -> Document | None:
    """Sections, in no order, of settings, whose order is kept: the first that fits may decide.

    None where a line is neither a section nor a setting, where one of them stands twice, where a line is indented, as
    it may then go on with the one before, and where it is not plain what parts a key from its value.
    """
    if not (content.startswith(b"[") or b"\n[" in content) or not _SECTION.search(content):
        return None
    settings: dict[str, dict[str, str]] = {"": {}}
    section, signs = "", set()
    for line in content.decode("utf-8-sig").splitlines():
        if not line.strip() or line.strip()[0] in "#;":
            continue
        if line.startswith("[") and line.rstrip().endswith("]"):
            section = line.rstrip()
            if section in settings:
                return None
            settings[section] = {}
            continue
        found = _SETTING.fullmatch(line)
        if found is None or line[0].isspace() or found[1] in settings[section]:
            return None
        signs.add(found[2])
        settings[section][found[1]] = found[3].rstrip()
    if len(signs) > 1:
        return None
    fields: dict[str, Node] = {name: _Plain(value) for name, value in settings.pop("").items()}
    for name, under in settings.items():
        fields[name] = _Plain(fields={key: _Plain(value) for key, value in under.items()})
    return Document(f"ini {''.join(signs)}", _Plain(fields=fields), _Ini())
