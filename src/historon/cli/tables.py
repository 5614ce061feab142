"""Tables that are readable on any width: no value is ever cut, and columns that are empty throughout are left out.

Where the screen is too narrow, what is left over of a row is printed below it, indented.
"""

import sys
from collections.abc import Collection, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from itertools import compress

from historon.cli.styled import Screen, Text

__all__ = ["Table", "print_table"]

_GAP = 2
_INDENT = 4
_EMPTY = frozenset({"", "-", "·"})
_LEAST = 24  # columns that a text needs beside the others
_PLAIN = frozenset({"note", "subject", "about", "verdict"})  # what needs no heading below a row


@dataclass
class Table:
    """Rows under headings. Columns named in `right` are flush right; those in `wrap` hold texts, which may fold."""

    columns: Sequence[str]
    right: Collection[str] = ()
    wrap: Collection[str] = ("note",)
    rows: list[list[Text]] = field(default_factory=list)

    def add_row(self, *cells: Text | str, style: str = "") -> None:
        """One more row, as many cells as there are columns."""
        made = (cell if isinstance(cell, Text) else Text(cell) for cell in cells)
        self.rows.append([cell.under(style) if style else cell for cell in made])

    def without(self, *columns: str) -> "Table":
        """The same without these columns."""
        stays = [column not in columns for column in self.columns]
        rows = [list(compress(cells, stays)) for cells in self.rows]
        return Table(list(compress(self.columns, stays)), self.right, self.wrap, rows)

    def width(self, at: int) -> int:
        """How many columns of a screen this column of the table takes, its heading included."""
        return max(len(self.columns[at]), *(cells[at].width for cells in self.rows), 0)

    def longest_word(self, at: int) -> int:
        """How wide this column must be so that no word in it is broken."""
        return max((len(word) for cells in self.rows for word in cells[at].plain.split()), default=0)

    def is_used(self, at: int) -> bool:
        """Whether any row says something here."""
        return any(cells[at].plain.strip() not in _EMPTY for cells in self.rows)


def print_table(made: Table, screen: Screen) -> None:
    """The table as this screen has room for it; piped, each row is one line."""
    shown = [at for at, _ in enumerate(made.columns) if at == 0 or made.is_used(at)]
    widths = {at: made.width(at) for at in shown}
    room = screen.width if screen.is_terminal else _total(shown, widths)
    beside, below = _arranged(made, shown, widths, room)
    lines = _lines(made, {at: widths[at] for at in beside}, below, room)
    if not screen.is_terminal:
        sys.stdout.write("".join(f"{line.plain.rstrip()}\n" for line in lines))
        return
    with screen.rich.capture() as caught:
        for line in lines:
            screen.print(line, soft_wrap=True)
    # Blanks that fill a line up would be wrapped where the terminal is narrower than it says.
    sys.stdout.write("".join(f"{line.rstrip()}\n" for line in caught.get().splitlines()))


def _arranged(
    made: Table, shown: Sequence[int], widths: dict[int, int], room: int
) -> tuple[Sequence[int], Sequence[int]]:
    """Which columns stand beside each other, and which below their row: texts first, then the rightmost."""
    if _total(shown, widths) <= room:
        return shown, ()
    texts = [at for at in shown if made.columns[at] in made.wrap]
    values = [at for at in shown if at not in texts]
    left = room - _total(values, widths) - _GAP
    if len(texts) == 1 and left >= max(_LEAST, made.longest_word(texts[0])):
        widths[texts[0]] = left
        return shown, ()
    below = texts
    while len(values) > 1 and _total(values, widths) > room:
        below = [values.pop(), *below]
    return values, below


def _total(columns: Sequence[int], widths: Mapping[int, int]) -> int:
    return sum(widths[at] for at in columns) + _GAP * max(len(columns) - 1, 0)


def _lines(made: Table, widths: Mapping[int, int], below: Sequence[int], room: int) -> Iterator[Text]:
    yield from _row_lines(made, [Text(name, "dim") for name in made.columns], widths)
    for cells in made.rows:
        yield from _row_lines(made, cells, widths)
        for at in below:
            if cells[at].plain.strip() in _EMPTY:
                continue
            name = Text("" if made.columns[at] in _PLAIN else f"{made.columns[at]} ", "dim")
            for line in _folded(name.append(cells[at]), room - _INDENT):
                yield Text(" " * _INDENT).append(line)


def _folded(text: Text, width: int) -> list[Text]:
    """The text in lines of this width; a word that is wider, such as the path of a file, stays whole."""
    longest = max(map(len, text.plain.split()), default=1)
    return text.folded(max(width, longest))


def _row_lines(made: Table, cells: Sequence[Text], widths: Mapping[int, int]) -> Iterator[Text]:
    """One row; a text that is wider than its column goes on in further lines."""
    folded = {at: _folded(cells[at], width) for at, width in widths.items()}
    for number in range(max(1, *map(len, folded.values()))):
        line = Text()
        for at, width in widths.items():
            cell = folded[at][number].without_end() if number < len(folded[at]) else Text()
            blanks = " " * (width - cell.width)
            parts = (blanks, cell) if made.columns[at] in made.right else (cell, blanks)
            line.append(Text.assemble(*parts, " " * _GAP))
        yield line
