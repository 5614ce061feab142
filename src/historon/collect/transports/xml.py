"""Markup from devices: parsed without entities, networks or endless trees, and written in one stable form."""

from typing import Any

__all__ = ["canonical_json", "canonical_xml", "parse_markup", "parse_xml"]


def parse_xml(content: bytes) -> Any:
    """The root element. LookupError when it is not well-formed XML; entities are never expanded."""
    from lxml import etree  # imported where it is used: most sources have no markup

    parser = etree.XMLParser(resolve_entities=False, no_network=True, load_dtd=False, huge_tree=False)
    try:
        return etree.fromstring(content, parser)
    except (etree.XMLSyntaxError, ValueError) as exc:
        raise LookupError(f"the answer is not XML: {exc}") from exc


def parse_markup(content: bytes) -> Any:
    """The root element of XML, or else of HTML."""
    try:
        return parse_xml(content)
    except LookupError:
        from lxml import etree
        from lxml import html as lxml_html

        try:
            return lxml_html.document_fromstring(content)
        except (etree.ParserError, ValueError) as exc:
            raise LookupError("the answer is neither XML nor HTML") from exc


def canonical_xml(content: bytes) -> bytes:
    """The same XML in one form: attributes in order and indentation by depth (Canonical XML 1.0, W3C 2001).

    Namespaces stay that only values refer to, as a value such as `t:port` means nothing without them. Text that is
    white space alone between elements says nothing here and goes.
    """
    from lxml import etree

    root = parse_xml(content)
    parser = etree.XMLParser(remove_blank_text=True, resolve_entities=False, no_network=True)
    root = etree.fromstring(etree.tostring(root), parser)
    etree.indent(root)
    return etree.tostring(root, method="c14n", with_comments=True) + b"\n"


def canonical_json(data: Any) -> bytes:
    """The same JSON in one form: keys in order, two blanks of indentation."""
    import msgspec

    return msgspec.json.format(msgspec.json.encode(data, order="deterministic"), indent=2) + b"\n"
