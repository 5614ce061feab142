"""What is looked for in texts: regular expressions, and places in an answer."""

import re
from functools import lru_cache
from typing import Self

__all__ = ["Finder", "Noise", "Pattern"]


class Pattern(str):
    """A regular expression, compiled over bytes because exports are bytes."""

    __slots__ = ("compiled",)
    compiled: re.Pattern[bytes]

    @classmethod
    def parse(cls, text: object) -> Self:
        """Check the expression; ValueError says where it is wrong."""
        if not isinstance(text, str) or not text:
            raise ValueError("expected a regular expression in quotes")
        try:
            compiled = re.compile(text.encode(), re.MULTILINE)
        except re.error as exc:
            raise ValueError(
                f"not a regular expression: {exc} (use 'single quotes' so that \\ stays as it is)"
            ) from exc
        made = cls(text)
        made.compiled = compiled
        return made


_KINDS = ("json", "xpath", "xpaths", "pattern", "patterns", "header", "cookie")
_EXAMPLE = 'write for example "json:/token", "xpath://version/text()" or "pattern:Version (\\S+)"'


class Finder(str):
    """Where in an answer something stands.

    `json:` and a JSON Pointer (RFC 6901), `xpath:` (XPath 1.0), `pattern:` (a regular expression: its group, or what it
    matches), `header:` or `cookie:` and a name. `xpaths:` and `patterns:` find all there are, as a list.
    """

    __slots__ = ()

    @classmethod
    def parse(cls, text: object) -> Self:
        """Check the form; ValueError says what is wrong."""
        kind, _, place = text.partition(":") if isinstance(text, str) else ("", "", "")
        if text != "json:" and (kind not in _KINDS or not place.strip()):  # a whole document is a place too
            raise ValueError(f"not a place in an answer ({_EXAMPLE})")
        if kind == "json" and place and not place.startswith("/"):
            raise ValueError(f'a JSON Pointer begins with a slash (write "json:/{place}")')
        if kind.startswith("pattern"):
            Pattern.parse(place)
        if kind.startswith("xpath"):
            _check_xpath(place)
        return cls(text)

    @property
    def kind(self) -> str:
        """The word before the colon."""
        return self.partition(":")[0]

    @property
    def place(self) -> str:
        """What stands behind the colon."""
        return self.partition(":")[2]


class Noise(str):
    """What of an export is left out of comparisons.

    A regular expression for lines, or `path:` and one for places in the outline, such as
    `path:^interface .* / counters`; `xpath:` (XPath 1.0) or `json:` (a JSON Pointer, RFC 6901, with `*` for any name)
    for places in a document; `value:` and a kind of value.
    """

    __slots__ = ("compiled",)
    compiled: re.Pattern[bytes]
    VALUES = ("time", "counter", "serial", "hash")

    @classmethod
    def parse(cls, text: object) -> Self:
        """Check the form; ValueError says what is wrong."""
        made = cls(text)
        if made.kind == "value" and made.place not in cls.VALUES:
            raise ValueError(f'"{made.place}" is not a kind of value (one of {", ".join(cls.VALUES)})')
        if made.kind == "json" and not made.place.startswith("/"):
            raise ValueError(f'a JSON Pointer begins with a slash (write "json:/{made.place}")')
        if made.kind == "xpath":
            _check_xpath(made.place)
        if made.kind in ("pattern", "path"):
            made.compiled = Pattern.parse(made.place if isinstance(text, str) else text).compiled
        return made

    @property
    def kind(self) -> str:
        """`pattern`, `path`, `xpath`, `json` or `value`."""
        word, colon, _ = self.partition(":")
        return word if colon and word in ("pattern", "path", "xpath", "json", "value") else "pattern"

    @property
    def place(self) -> str:
        """The expression itself."""
        return self.removeprefix(f"{self.kind}:")


@lru_cache
def _check_xpath(expression: str) -> None:
    from lxml import etree

    try:
        etree.XPath(expression)
    except etree.XPathError as exc:
        raise ValueError(f"not an XPath expression: {exc}") from exc
