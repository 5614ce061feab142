"""Aligning two lists of lines: what stayed, and between it what was replaced by what.

The ends that agree are cut off. What is left gets a shortest edit script when a very short one exists (Myers, "An
O(ND) Difference Algorithm", 1986); otherwise lines that stand exactly once on each side anchor it (patience), or runs
of lines where there are no such lines, and each gap between two anchors is treated the same way again. A gap without
anchors gets a longest common subsequence, many comparisons at a time (Hyyrö, "Bit-parallel LCS-length computation
revisited", 2004).
"""

from bisect import bisect_left
from collections import Counter
from collections.abc import Hashable, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from itertools import pairwise

from historon.base.sequences import common_end, common_start

__all__ = ["Edit", "align", "join_edits", "longest_rising", "path_edits", "same_lines"]

_FEW_EDITS = 24  # scripts this short are looked for before anchors are
_SEARCHES = 8_000  # how many such searches are made, and ...
_MOST_PIECES = 64  # that lines without anchors are aligned in
_COMPARISONS = 500_000_000  # ... how many lines are compared with each other, so that no input makes it quadratic
_RUNS = (1, 4, 16)  # how many lines in a row may be an anchor; more than one where there is too much to compare
_BLOCK = 256  # rows of the subsequence's matrix that are held at once


@dataclass(frozen=True, slots=True)
class Edit:
    """Lines `old_from` up to `old_to` were replaced by lines `new_from` up to `new_to`; either may be empty."""

    old_from: int
    old_to: int
    new_from: int
    new_to: int


def align(old: Sequence[Hashable], new: Sequence[Hashable]) -> list[Edit]:
    """The edits that turn `old` into `new`, in order, with something equal between any two."""
    return join_edits(_edits(old, new))


def same_lines(old: Sequence[Hashable], new: Sequence[Hashable]) -> dict[int, int]:
    """Of every line that is the same before and after, its number before and after, counted from 1."""
    found: dict[int, int] = {}
    at = to = 0
    for edit in [*align(old, new), Edit(len(old), len(old), len(new), len(new))]:
        found.update(zip(range(at + 1, edit.old_from + 1), range(to + 1, edit.new_from + 1), strict=True))
        at, to = edit.old_to, edit.new_to
    return found


def join_edits(edits: Iterable[Edit]) -> list[Edit]:
    """The edits with those joined that nothing stands between."""
    merged: list[Edit] = []
    for edit in edits:
        if merged and (merged[-1].old_to, merged[-1].new_to) == (edit.old_from, edit.new_from):
            edit = Edit(merged[-1].old_from, edit.old_to, merged.pop().new_from, edit.new_to)
        merged.append(edit)
    return merged


def _edits(old: Sequence[Hashable], new: Sequence[Hashable]) -> Iterator[Edit]:
    """Edits in order; gaps wait on a stack, so that hostile input cannot exhaust Python's own.

    What would take more comparisons than there may be is aligned in pieces, or reported as replaced whole.
    """
    gaps = [(0, len(old), 0, len(new))]
    searches, comparisons = _SEARCHES, _COMPARISONS
    while gaps:
        old_from, old_to, new_from, new_to = gaps.pop()
        left, right = old[old_from:old_to], new[new_from:new_to]
        start = common_start(left, 0, right, 0)
        end = common_end(left, right, min(len(left), len(right)) - start)
        left, right = left[start : len(left) - end], right[start : len(right) - end]
        old_from, new_from = old_from + start, new_from + start
        whole = Edit(old_from, old_from + len(left), new_from, new_from + len(right))
        if not left or not right:
            yield from [whole] * bool(left or right)
            continue
        searches -= 1
        if searches >= 0 and (trace := _search(left, right, _FEW_EDITS)):
            yield from path_edits(trace, len(left), len(right), old_from, new_from)
            continue
        few = len(left) * len(right) <= comparisons
        anchors = _anchors(left, right, _RUNS[:1] if few else _RUNS)
        if anchors:
            gaps += reversed(list(_between(anchors, old_from, len(left), new_from, len(right))))
        elif few:
            comparisons -= len(left) * len(right)
            common = _common_subsequence(left, right)
            yield from (Edit(*gap) for gap in _between(common, old_from, len(left), new_from, len(right)))
        elif len(left) * len(right) <= comparisons * _MOST_PIECES:
            gaps += reversed(list(_pieces(whole, -(-len(left) * len(right) // comparisons))))
        else:
            yield whole


def _pieces(edit: Edit, count: int) -> Iterator[tuple[int, int, int, int]]:
    """Gaps of the same share of both sides, one behind another."""
    old, new = edit.old_to - edit.old_from, edit.new_to - edit.new_from
    at, to = edit.old_from, edit.new_from
    for piece in range(1, count + 1):
        end, other_end = edit.old_from + old * piece // count, edit.new_from + new * piece // count
        yield at, end, to, other_end
        at, to = end, other_end


def _between(
    anchors: list[tuple[int, int]], old_from: int, old_size: int, new_from: int, new_size: int
) -> Iterator[tuple[int, int, int, int]]:
    """The gaps before, between and after the anchors, as far as there is anything in them."""
    at, to = 0, 0
    for one, other in [*anchors, (old_size, new_size)]:
        if one > at or other > to:
            yield old_from + at, old_from + one, new_from + to, new_from + other
        at, to = one + 1, other + 1


def _anchors(left: Sequence[Hashable], right: Sequence[Hashable], lengths: Iterable[int]) -> list[tuple[int, int]]:
    """Runs of lines of one of these lengths that stand once on each side: the longest chain in the same order."""
    for length in lengths:
        one, other = (side if length == 1 else _runs(side, length) for side in (left, right))
        in_left, in_right = Counter(one), Counter(other)
        place = {run: at for at, run in enumerate(other) if in_right[run] == 1}
        pairs = [(at, place[run]) for at, run in enumerate(one) if run in place and in_left[run] == 1]
        if pairs:
            return longest_rising(pairs)
    return []


def _runs(lines: Sequence[Hashable], length: int) -> Sequence[Hashable]:
    return list(zip(*(lines[at:] for at in range(length)), strict=False))


def _common_subsequence(left: Sequence[Hashable], right: Sequence[Hashable]) -> list[tuple[int, int]]:
    """The places of a longest common subsequence.

    A row of the matrix is a number whose bit n is 0 where the subsequence of `left` up to n is longer than without n.
    Only every so many rows are kept; those between are made once more on the way back.
    """
    places: dict[Hashable, int] = {}
    wanted = set(right)
    for at, line in enumerate(left):
        if line in wanted:
            places[line] = places.get(line, 0) | 1 << at
    kept = [(1 << len(left)) - 1]
    for start in range(0, len(right), _BLOCK):
        kept.append(_rows(kept[-1], right[start : start + _BLOCK], places, len(left))[-1])
    found = []
    x = len(left)
    for start in range((len(right) - 1) // _BLOCK * _BLOCK, -1, -_BLOCK):
        block = right[start : start + _BLOCK]
        rows = _rows(kept[start // _BLOCK], block, places, x)
        y = len(block)
        while x and y:
            bit = 1 << x - 1
            if rows[y] & bit:
                x -= 1
            elif rows[y - 1] & bit:
                x, y = x - 1, y - 1
                found.append((x, start + y))
            else:
                y -= 1
    return found[::-1]


def _rows(row: int, lines: Sequence[Hashable], places: Mapping[Hashable, int], width: int) -> list[int]:
    """A row, cut to a width, and those that the lines make of it one after another."""
    cut = (1 << width) - 1
    row &= cut
    rows = [row]
    for line in lines:
        matches = places.get(line, 0)
        if matches:
            common = row & matches
            row = (row + common | row - common) & cut
        rows.append(row)
    return rows


def longest_rising(pairs: list[tuple[int, int]]) -> list[tuple[int, int]]:
    """Of pairs that rise on the left, the longest choice that rises on the right too (patience sorting)."""
    if all(one[1] < other[1] for one, other in pairwise(pairs)):
        return pairs
    ends: list[int] = []
    best: list[int] = []
    before: list[int] = []
    for index, (_, other) in enumerate(pairs):
        rank = bisect_left(ends, other)
        before.append(best[rank - 1] if rank else -1)
        ends[rank : rank + 1] = [other]
        best[rank : rank + 1] = [index]
    chain = []
    at = best[-1]
    while at >= 0:
        chain.append(pairs[at])
        at = before[at]
    return chain[::-1]


def path_edits(trace: list[dict[int, int]], x: int, y: int, old_from: int, new_from: int) -> Iterator[Edit]:
    """The edits of a search, walked back from its end (x, y)."""
    steps = []
    for depth in range(len(trace) - 1, 0, -1):
        furthest, k = trace[depth - 1], x - y
        down = k == -depth or (k != depth and furthest[k - 1] < furthest[k + 1])
        x = furthest[k + 1] if down else furthest[k - 1]
        y = x - (k + 1 if down else k - 1)
        steps.append((x, y, down))
    for x, y, down in reversed(steps):
        yield Edit(old_from + x, old_from + x + (not down), new_from + y, new_from + y + down)


def _search(left: Sequence[Hashable], right: Sequence[Hashable], most: int) -> list[dict[int, int]]:
    """For each number of edits, the furthest place reached on each diagonal; nothing when `most` do not suffice."""
    width, height = len(left), len(right)
    if abs(width - height) > most:
        return []
    furthest = {1: 0}
    trace: list[dict[int, int]] = []
    for depth in range(most + 1):
        reached: dict[int, int] = {}
        for k in range(-depth, depth + 1, 2):
            x = _step(furthest, k, depth)
            y = x - k
            if x < width and y < height and left[x] == right[y]:
                x += common_start(left, x, right, y)
            reached[k] = x
            if x >= width and x - k >= height:
                return [*trace, reached]
        trace.append(reached)
        furthest = reached
    return []


def _step(furthest: dict[int, int], k: int, depth: int) -> int:
    if k == -depth or (k != depth and furthest[k - 1] < furthest[k + 1]):
        return furthest[k + 1]
    return furthest[k - 1] + 1
