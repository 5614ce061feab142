"""The unified format (POSIX diff -u), as `patch` reads it."""

from collections.abc import Iterator, Sequence
from dataclasses import dataclass

from historon.compare.exports import Kind, PartChange
from historon.compare.lines import Edit
from historon.compare.outline import outline_of
from historon.versions import too_large

__all__ = ["Hunk", "Row", "hunks", "unified"]


@dataclass(frozen=True, slots=True)
class Row:
    """One line of a hunk: its mark (space, `-` or `+`) and the line, with its line feed where it has one."""

    mark: str
    line: bytes


@dataclass(frozen=True)
class Hunk:
    """Edits that stand close together, with the lines around them and the headings above. Line numbers count from 1."""

    old_start: int
    old_count: int
    new_start: int
    new_count: int
    path: tuple[bytes, ...]
    rows: Sequence[Row]


def hunks(change: PartChange, context: int = 3) -> Iterator[Hunk]:
    """The hunks of a part. Where noise was left out, the new side is the old one with only the telling edits made."""
    shift = 0
    shown = change.old or change.new
    outline = outline_of(shown.bare, change.masks.outline, shown)
    for group in _grouped(change.edits, context):
        start = max(0, group[0].old_from - context)
        end = min(len(change.old), group[-1].old_to + context)
        rows = list(_rows(change, group, start, end))
        old_count = end - start
        grown = sum((edit.new_to - edit.new_from) - (edit.old_to - edit.old_from) for edit in group)
        new_count = old_count + grown
        place = group[0].old_from if change.old else group[0].new_from
        yield Hunk(
            old_start=start + (old_count > 0),
            old_count=old_count,
            new_start=start + shift + (new_count > 0),
            new_count=new_count,
            path=outline.path(min(place, len(change.old or change.new) - 1)),
            rows=rows,
        )
        shift += grown


def _grouped(edits: Sequence[Edit], context: int) -> Iterator[list[Edit]]:
    group: list[Edit] = []
    for edit in edits:
        if group and edit.old_from - group[-1].old_to > 2 * context:
            yield group
            group = []
        group.append(edit)
    if group:
        yield group


def _rows(change: PartChange, group: Sequence[Edit], start: int, end: int) -> Iterator[Row]:
    at = start
    for edit in group:
        yield from (Row(" ", line) for line in change.old[at : edit.old_from])
        yield from (Row("-", line) for line in change.old[edit.old_from : edit.old_to])
        yield from (Row("+", line) for line in change.new[edit.new_from : edit.new_to])
        at = edit.old_to
    yield from (Row(" ", line) for line in change.old[at:end])


def unified(change: PartChange, old_label: str, new_label: str, context: int = 3) -> Iterator[bytes]:
    """The lines of a unified diff. Labels are `name<TAB>instant`; a part that came or went stands against /dev/null."""
    old_label = "/dev/null" if change.kind is Kind.ADDED else old_label
    new_label = "/dev/null" if change.kind is Kind.REMOVED else new_label
    if change.kind is Kind.RENAMED:
        yield f"Part {change.was} is now {change.name}\n".encode()
        if not change.edits:
            return
    if not change.edits:
        left, right = old_label.partition("\t")[0], new_label.partition("\t")[0]
        if too_large(change.old_content) or too_large(change.new_content):
            yield f"Parts {left} and {right} differ, and are too large to be compared line by line\n".encode()
            return
        what = "Binary" if change.old_content or change.new_content else "Empty"
        yield f"{what} parts {left} and {right} differ\n".encode()
        return
    yield f"--- {old_label}\n+++ {new_label}\n".encode()
    for hunk in hunks(change, context):
        old, new = _range(hunk.old_start, hunk.old_count), _range(hunk.new_start, hunk.new_count)
        title = b" " + b" / ".join(hunk.path) if hunk.path else b""
        yield f"@@ -{old} +{new} @@".encode() + title + b"\n"
        for row in hunk.rows:
            yield row.mark.encode() + row.line
            if not row.line.endswith(b"\n"):
                yield b"\n\\ No newline at end of file\n"


def _range(start: int, count: int) -> str:
    return str(start) if count == 1 else f"{start},{count}"
