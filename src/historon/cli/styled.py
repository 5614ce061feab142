"""Texts with styles, and where they are printed: on a terminal by rich, which is loaded for it, otherwise plainly."""

import sys
from functools import cached_property
from typing import IO, TYPE_CHECKING, Any, Self

from historon.cli.app import colours_forced

if TYPE_CHECKING:
    from rich.console import Console
    from rich.text import Text as Rich

__all__ = ["Screen", "Text"]

_TAB = 8  # columns
_STEERING = dict.fromkeys((7, 8, 11, 12, 13))  # bell, backspace, tabs and feeds: rich drops them too
_WITHOUT_END = 1000  # columns of what is no terminal: nothing is cut off


class Text:
    """A text in pieces, each with a style of its own; `style` is that of all of it, also of what is appended."""

    def __init__(self, text: str = "", style: str = "") -> None:
        self.style = style
        self._pieces: list[tuple[str, str]] = []
        self.append(text)

    @classmethod
    def assemble(cls, *parts: "str | tuple[str, str] | Text") -> "Text":
        """The parts one behind the other; a pair is a text and its style."""
        made = cls()
        for part in parts:
            made.append(*part) if isinstance(part, tuple) else made.append(part)
        return made

    @property
    def plain(self) -> str:
        """What it says."""
        return "".join(text for text, _ in self._pieces)

    @property
    def width(self) -> int:
        """How many columns of a screen it takes: ideographs take two each."""
        plain = self.plain
        if plain.isascii():
            return len(plain)
        from rich.cells import cell_len

        return cell_len(plain)

    def append(self, text: "str | Text", style: str = "") -> Self:
        """Add something behind it."""
        more = [(text.translate(_STEERING), style)] if isinstance(text, str) else text._pieces
        for piece, own in more:
            whole = own if isinstance(text, str) else f"{text.style} {own}".strip()
            if self._pieces and self._pieces[-1][1] == whole:
                self._pieces[-1] = (self._pieces[-1][0] + piece, whole)
            elif piece:
                self._pieces.append((piece, whole))
        return self

    def stylize(self, style: str, start: int, end: int) -> None:
        """Lay a style over what stands from one place to another."""
        before, within, behind = self.part(0, start), self.part(start, end), self.part(end, len(self.plain))
        laid = [(text, f"{own} {style}".strip()) for text, own in within._pieces]
        self._pieces = [*before._pieces, *laid, *behind._pieces]

    def under(self, style: str) -> "Text":
        """The same with a style below its own."""
        made = Text(style=f"{style} {self.style}".strip())
        made._pieces = [*self._pieces]
        return made

    def without_end(self) -> "Text":
        """The same without the blanks at its end."""
        return self.part(0, len(self.plain.rstrip()))

    def part(self, start: int, end: int) -> "Text":
        """What stands from one place to another."""
        made = Text(style=self.style)
        at = 0
        for text, own in self._pieces:
            piece = text[max(start - at, 0) : max(end - at, 0)]
            if piece:
                made._pieces.append((piece, own))
            at += len(text)
        return made

    def folded(self, width: int) -> "list[Text]":
        """It in lines of this width, broken between words."""
        plain = self.plain
        if "\n" not in plain and "\t" not in plain and self.width <= width:
            return [self]
        screen = _rich_console(sys.stdout, width=width)
        return [_from_rich(line, self.style) for line in self.rich().wrap(screen, width)]

    def rich(self) -> "Rich":
        """It as rich takes it."""
        from rich.text import Text as Rich

        made = Rich(style=self.style)
        for text, own in self._pieces:
            made.append(text, own or None)
        return made

    def __rich__(self) -> "Rich":
        return self.rich()


def _from_rich(line: "Rich", style: str) -> Text:
    made = Text(style=style)
    at = 0
    for span in sorted(line.spans):  # of pieces, which do not overlap
        made.append(line.plain[at : span.start]).append(line.plain[span.start : span.end], str(span.style))
        at = span.end
    return made.append(line.plain[at:])


class Screen:
    """Where texts are printed. What is no terminal has no styles, and no line is folded there or cut off."""

    def __init__(self, *, stderr: bool = False) -> None:
        self._stderr = stderr
        self.is_terminal = self._stream.isatty() or colours_forced()

    @property
    def _stream(self) -> IO[str]:
        return sys.stderr if self._stderr else sys.stdout

    @cached_property
    def rich(self) -> "Console":
        """The same for what rich alone can print."""
        if self.is_terminal:
            return _rich_console(self._stream)
        return _rich_console(self._stream, width=_WITHOUT_END, no_color=True)

    @property
    def width(self) -> int:
        """In columns."""
        return self.rich.width if self.is_terminal else _WITHOUT_END

    def print(self, *parts: object, sep: str = " ", soft_wrap: bool = False) -> None:
        """Texts, or whatever else rich can print."""
        if self.is_terminal or not all(isinstance(part, str | Text) for part in parts):
            self.rich.print(*parts, sep=sep, soft_wrap=soft_wrap)
            return
        said = sep.join(part.plain if isinstance(part, Text) else Text(str(part)).plain for part in parts)
        self._stream.write("\n".join(line.expandtabs(_TAB) for line in said.split("\n")) + "\n")


def _rich_console(stream: IO[str], **options: Any) -> "Console":
    from rich.console import Console

    return Console(file=stream, highlight=False, markup=False, emoji=False, **options)
