"""The rows of a hunk made ready for eyes: which line became which, and which words of it differ."""

from bisect import bisect_right
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, replace

from historon.compare.exports import PartChange
from historon.compare.lines import same_lines
from historon.compare.patches import Hunk
from historon.compare.words import Span, edited_words, paired

__all__ = ["Marked", "marked", "side_by_side"]


@dataclass(frozen=True)
class Marked:
    """A row with its line number (from 1) on its own side, the stretches that differ, and the row it became.

    Of a row that both sides have `twin` is the one of the new side. It is `noise` where it differs by that alone.
    """

    mark: str
    text: str
    number: int
    spans: Sequence[Span] = ()
    partner: int | None = None
    twin: "Marked | None" = None
    noise: bool = False


class Beside:
    """Which line of the new side stands beside a line of the old side that both have."""

    def __init__(self, change: PartChange) -> None:
        self._change = change
        self._ends = [edit.old_to for edit in change.edits]
        self._odd: dict[int, Mapping[int, int]] = {}

    def place(self, at: int) -> int | None:
        """The place, counted from 0; None where noise came or went and nothing stands beside it."""
        edits = self._change.edits
        run = bisect_right(self._ends, at)
        old, new = self._change.old, self._change.new
        old_from, new_from = 0, 0
        if run:
            old_from, new_from = edits[run - 1].old_to, edits[run - 1].new_to
        old_to, new_to = len(old), len(new)
        if run < len(edits):
            old_to, new_to = edits[run].old_from, edits[run].new_from
        if old_to - old_from == new_to - new_from:
            return new_from + at - old_from
        if run not in self._odd:
            self._odd[run] = same_lines(old[old_from:old_to], new[new_from:new_to])
        there = self._odd[run].get(at - old_from + 1)
        return None if there is None else new_from + there - 1


def marked(hunk: Hunk, clean: Callable[[str], str], change: PartChange | None = None) -> list[Marked]:
    """The rows of a hunk; `clean` makes a text fit for where it is shown.

    With its `change` each row that both sides have gets its twin: what the new side holds there.
    """

    def text_of(line: bytes) -> str:
        return clean(line.decode("utf-8", "backslashreplace").rstrip("\r\n"))

    beside = Beside(change) if change is not None else None

    def with_twin(row: Marked) -> Marked:
        place = beside.place(row.number - 1) if beside and change else None
        if place is None or change is None:
            return row
        text = text_of(change.new[place])
        noise = text != row.text
        return replace(row, noise=noise, twin=Marked(" ", text, place + 1, noise=noise))

    shown = [text_of(row.line) for row in hunk.rows]
    partners: dict[int, int] = {}
    spans: dict[int, Sequence[Span]] = {}
    for removed, added in _blocks(hunk):
        for one, other in paired([shown[at] for at in removed], [shown[at] for at in added]):
            old, new = removed[one], added[other]
            partners[old], partners[new] = new, old
            spans[old], spans[new] = edited_words(shown[old], shown[new])
    made = []
    old_line, new_line = hunk.old_start, hunk.new_start
    for at, row in enumerate(hunk.rows):
        number = new_line if row.mark == "+" else old_line
        one_row = Marked(row.mark, shown[at], number, spans.get(at, ()), partners.get(at))
        made.append(with_twin(one_row) if row.mark == " " else one_row)
        old_line += row.mark != "+"
        new_line += row.mark != "-"
    return made


def side_by_side(rows: Sequence[Marked]) -> Iterator[tuple[Marked | None, Marked | None]]:
    """The rows in two columns: what became what stands beside it."""
    shown: set[int] = set()
    for at, row in enumerate(rows):
        if row.mark == " ":
            yield row, row.twin or row
        elif row.mark == "-":
            # What was added before its partner comes first.
            if row.partner is not None:
                for before in range(_first_added(rows, at), row.partner):
                    if before not in shown and rows[before].partner is None:
                        shown.add(before)
                        yield None, rows[before]
                shown.add(row.partner)
            yield row, rows[row.partner] if row.partner is not None else None
        elif at not in shown and row.partner is None:
            yield None, row


def _first_added(rows: Sequence[Marked], at: int) -> int:
    while rows[at].mark == "-":
        at += 1
    return at


def _blocks(hunk: Hunk) -> Iterator[tuple[list[int], list[int]]]:
    """Rows that were removed, each time with those that came in their place."""
    removed: list[int] = []
    added: list[int] = []
    for at, row in enumerate(hunk.rows):
        if row.mark != "+" and added:
            yield removed, added
            removed, added = [], []
        if row.mark == "-":
            removed.append(at)
        elif row.mark == "+":
            added.append(at)
        else:
            removed = []
    if added:
        yield removed, added
