"""Blocks, not fragments: where lines that came or went could as well begin elsewhere, they begin where a block does.

Lines that were put between equal ones can often be described in several ways, all right and equally long. People
mean the one that begins with the least indented line, right behind a blank or closing one.
"""

import re
from collections.abc import Sequence
from functools import partial

from historon.compare.lines import Edit

__all__ = ["slid"]

_FARTHEST = 1_000  # lines that one block is slid up or down
_STEPS = 200_000  # for all blocks of a text
_FEW = 40  # lines that became others, beside a block
# What begins no block: blanks, separators, and what closes one.
_NO_BEGINNING = re.compile(rb"(?:[\W_]*|</[^>]*>|(?:end|next|exit|quit|done|return|fi)\b[\w-]*)\s?[;,]?$")
_COMMENT = re.compile(rb"\s*(?:[#;!]|//|--|/\*|<!--)\s*\w")


def slid(edits: Sequence[Edit], old: Sequence[bytes], new: Sequence[bytes]) -> list[Edit]:
    """The same edits, those that only add or only remove where their block begins. Applied, they give the same text.

    An edit that replaces lines by fewer or more is parted where the lines that became others are parted from a block.
    """
    made: list[Edit] = []
    left = _STEPS
    for number, edit in enumerate(edits):
        first = (made[-1].old_to, made[-1].new_to) if made else (-1, -1)
        following = edits[number + 1] if number + 1 < len(edits) else None
        last = (following.old_from, following.new_from) if following else (len(old) + 1, len(new) + 1)
        if left <= 0:
            made.append(edit)
        elif _is_pure(edit):
            steps = _steps(edit, old, new, first, last)
            left -= len(steps)
            made.append(min((_moved(edit, by) for by in steps), key=partial(_rank, old, new)))
        else:
            left -= edit.old_to - edit.old_from + edit.new_to - edit.new_from
            made += _parted(edit, old, new, first, last)
    return made


def _is_pure(edit: Edit) -> bool:
    """Whether it only adds or only removes."""
    return (edit.old_from == edit.old_to) is not (edit.new_from == edit.new_to)


def _parted(
    edit: Edit, old: Sequence[bytes], new: Sequence[bytes], first: tuple[int, int], last: tuple[int, int]
) -> list[Edit]:
    """Lines that became others, and a block before or behind them that came or went; the edit itself where none did."""
    gone, came = edit.old_to - edit.old_from, edit.new_to - edit.new_from
    few = min(gone, came)
    if gone == came or few > _FEW:
        return [edit]
    head = Edit(edit.old_from, edit.old_from + few, edit.new_from, edit.new_from + few)
    behind = Edit(head.old_to, edit.old_to, head.new_to, edit.new_to)
    tail = Edit(edit.old_to - few, edit.old_to, edit.new_to - few, edit.new_to)
    before = Edit(edit.old_from, tail.old_from, edit.new_from, tail.new_from)
    ranked = partial(_rank, old, new)
    if _became(head, old, new):
        best = min((_moved(behind, by) for by in _steps(behind, old, new, first, last) if by >= 0), key=ranked)
        if best != behind and ranked(best)[:2] < ranked(behind)[:2]:
            return [head, best]
    if _became(tail, old, new):
        best = min((_moved(before, by) for by in _steps(before, old, new, first, last) if by <= 0), key=ranked)
        if best != before and ranked(best)[:2] < ranked(before)[:2]:
            return [best, tail]
    return [edit]


def _became(edit: Edit, old: Sequence[bytes], new: Sequence[bytes]) -> bool:
    """Whether each of these lines is a setting that got another value: as deep, and begun with the same word."""
    pairs = zip(old[edit.old_from : edit.old_to], new[edit.new_from : edit.new_to], strict=True)
    return all(_depth(one) == _depth(two) and one.split()[:1] == two.split()[:1] for one, two in pairs)


def _steps(
    edit: Edit, old: Sequence[bytes], new: Sequence[bytes], first: tuple[int, int], last: tuple[int, int]
) -> range:
    """By how many lines the edit may be moved, up and down, with a line that is equal between it and others."""
    lines, begin, end = (
        (old, edit.old_from, edit.old_to) if edit.old_to > edit.old_from else (new, edit.new_from, edit.new_to)
    )
    up = 0
    while (
        up < _FARTHEST
        and edit.old_from - up - 1 > first[0]
        and edit.new_from - up - 1 > first[1]
        and old[edit.old_from - up - 1] == new[edit.new_from - up - 1]
        and lines[begin - up - 1] == lines[end - up - 1]
    ):
        up += 1
    down = 0
    while (
        down < _FARTHEST
        and edit.old_to + down + 1 < last[0]
        and edit.new_to + down + 1 < last[1]
        and old[edit.old_to + down] == new[edit.new_to + down]
        and lines[begin + down] == lines[end + down]
    ):
        down += 1
    return range(-up, down + 1)


def _moved(edit: Edit, by: int) -> Edit:
    return Edit(edit.old_from + by, edit.old_to + by, edit.new_from + by, edit.new_to + by)


def _rank(old: Sequence[bytes], new: Sequence[bytes], edit: Edit) -> tuple[int, int, int, int]:
    """How little this is like the beginning of a block; of equal places the lowest is taken, as it always was."""
    lines, begin = (old, edit.old_from) if edit.old_to > edit.old_from else (new, edit.new_from)
    before = lines[begin - 1] if begin else b""
    return (
        bool(_NO_BEGINNING.match(lines[begin].strip())),
        _depth(lines[begin]),
        2 * bool(_COMMENT.match(before))
        + (not _NO_BEGINNING.match(before.strip())),  # a remark belongs to what is below it
        -begin,
    )


def _depth(line: bytes) -> int:
    expanded = line.expandtabs(8)
    return len(expanded) - len(expanded.lstrip(b" "))
