"""The rows of a hunk made ready for eyes: which line became which, and which words of it differ."""

from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass

from historon.compare.unified import Hunk
from historon.compare.words import Span, edited_words, paired

__all__ = ["Marked", "marked", "side_by_side"]


@dataclass(frozen=True)
class Marked:
    """A row with its line number (from 1) on its own side, the stretches that differ, and the row it became."""

    mark: str
    text: str
    number: int
    spans: Sequence[Span] = ()
    partner: int | None = None


def marked(hunk: Hunk, clean: Callable[[str], str]) -> list[Marked]:
    """The rows of a hunk; `clean` makes a text fit for where it is shown."""
    shown = [clean(row.line.decode("utf-8", "backslashreplace").rstrip("\r\n")) for row in hunk.rows]
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
        made.append(Marked(row.mark, shown[at], number, spans.get(at, ()), partners.get(at)))
        old_line += row.mark != "+"
        new_line += row.mark != "-"
    return made


def side_by_side(rows: Sequence[Marked]) -> Iterator[tuple[Marked | None, Marked | None]]:
    """The rows in two columns: what became what stands beside it."""
    shown: set[int] = set()
    for at, row in enumerate(rows):
        if row.mark == " ":
            yield row, row
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
