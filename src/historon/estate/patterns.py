"""What is looked for in texts: regular expressions, and places in an answer."""

import re
import sys
import warnings
from collections.abc import Callable, Iterator
from functools import cached_property, lru_cache
from typing import Any, Self

__all__ = ["Dated", "Expression", "Finder", "Noise", "Pattern", "QuickPattern"]


class Expression:
    """A regular expression over bytes, as somebody wrote it, in which ^ and $ stand for the ends of lines.

    It is looked for in what a device sends, so it is matched in time that grows with the length alone, by RE2, wherever
    RE2 knows its syntax. Lookaround and backreferences take an engine that tries again and again.
    """

    def __init__(self, written: bytes) -> None:
        self.written = written

    def __reduce__(self) -> tuple[type[Self], tuple[bytes]]:
        return type(self), (self.written,)

    @cached_property
    def _compiled(self) -> Any:
        return _linear(self.written) or re.compile(self.written, re.MULTILINE)

    @property
    def is_linear(self) -> bool:
        """Whether no text can make it take long."""
        return _linear(self.written) is not None

    @property
    def groups(self) -> int:
        """How many groups it has."""
        return int(self._compiled.groups)

    def search(self, content: bytes, start: int = 0, end: int = sys.maxsize) -> "re.Match[bytes] | None":
        """As of re.Pattern."""
        found: re.Match[bytes] | None = self._compiled.search(content, start, min(end, len(content)))
        return found

    def fullmatch(self, content: bytes) -> "re.Match[bytes] | None":
        """As of re.Pattern."""
        found: re.Match[bytes] | None = self._compiled.fullmatch(content)
        return found

    def finditer(self, content: bytes, start: int = 0, end: int = sys.maxsize) -> "Iterator[re.Match[bytes]]":
        """As of re.Pattern."""
        last = (-1, -1)
        for match in self._compiled.finditer(content, start, min(end, len(content))):
            if match.span() != last:  # RE2's may tell of an empty one twice
                yield match
            last = match.span()

    def sub(self, made: "Callable[[re.Match[bytes]], bytes]", content: bytes) -> bytes:
        """As of re.Pattern."""
        return bytes(self._compiled.sub(made, content))


@lru_cache(maxsize=4096)
def _linear(written: bytes) -> Any:
    """The expression as RE2 has it; None where it has no such syntax, or no RE2 is there (musl)."""
    try:
        import re2
    except ImportError:
        return None
    options = re2.Options()
    options.encoding = re2.Options.Encoding.LATIN1  # a byte is a letter, as for re
    options.log_errors = False
    try:
        return re2.compile(b"(?m)" + written, options)
    except re2.error:
        return None


class Pattern(str):
    """A regular expression, compiled over bytes because exports are bytes."""

    __slots__ = ("compiled",)
    compiled: Expression

    @classmethod
    def parse(cls, text: object) -> Self:
        """Check the expression; ValueError says where it is wrong."""
        if not isinstance(text, str) or not text:
            raise ValueError("expected a regular expression in quotes")
        try:
            with warnings.catch_warnings():
                warnings.simplefilter("error", FutureWarning)  # of what may come to mean something else
                re.compile(text.encode(), re.MULTILINE)
        except FutureWarning as exc:
            raise ValueError(f"not a plain regular expression: {exc} (write \\[ for a bracket)") from exc
        except (re.error, OverflowError, RecursionError) as exc:
            raise ValueError(rf"not a regular expression: {exc} (use 'single quotes' so that each \ stays)") from exc
        made = cls(text)
        made.compiled = Expression(text.encode())
        return made


class QuickPattern(Pattern):
    """A regular expression that is looked for while a source is spoken to, where nothing may take long."""

    __slots__ = ()

    @classmethod
    def parse(cls, text: object) -> Self:
        """Check the expression; ValueError says where it is wrong."""
        made = super().parse(text)
        if not made.compiled.is_linear and _linear(b"x") is not None:
            raise ValueError(
                "not an expression that is allowed here: hostile text could make it run for hours (write "
                "it without lookaround, backreferences, and counts over 1000)"
            )
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


class Dated(str):
    """Where an export says when it was made.

    `time` is that of the file, of the letter, or `Last-Modified` (RFC 9110 section 8.8.2); `name:` and a regular
    expression look in the name of the file, and any other is a place in the content, as of Finder.
    """

    __slots__ = ()

    @classmethod
    def parse(cls, text: object) -> Self:
        """Check the form; ValueError says what is wrong."""
        made = cls(text)
        if made.kind == "name":
            Pattern.parse(made.place)
        elif text != "time":
            try:
                Finder.parse(text)
            except ValueError as exc:
                raise ValueError(f'{exc}; or write "time", or "name:-([0-9]+)" for the name of the file') from exc
        return made

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
    compiled: Expression
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
        if colon and word in ("pattern", "path", "xpath", "json", "value"):
            return word
        return "pattern"

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
