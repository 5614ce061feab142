"""Aligning two lists of lines: what stayed, and between it what was replaced by what.

The ends that agree are cut off. What is left gets a shortest edit script (Myers, "An O(ND) Difference Algorithm",
1986) when a short one exists; otherwise lines that stand exactly once on each side anchor it (patience), and each gap
between two anchors is treated the same way again.
"""

from bisect import bisect_left
from collections import Counter
from collections.abc import Hashable, Iterator, Sequence
from dataclasses import dataclass
from itertools import pairwise
from math import isqrt

from historon.sequences import common_end, common_start

__all__ = ["Edit", "align", "split_lines"]

_FEW_EDITS = 24  # scripts this short are looked for before anchors are
_BUDGET = 4_000_000  # steps of searching in all, so that no input makes it quadratic
_MOST_EDITS = 400  # a gap without anchors and with a longer script than this is reported as replaced whole


@dataclass(frozen=True, slots=True)
class Edit:
    """Lines `old_from` up to `old_to` were replaced by lines `new_from` up to `new_to`; either may be empty."""

    old_from: int
    old_to: int
    new_from: int
    new_to: int


def split_lines(content: bytes) -> list[bytes]:
    """The lines with their line feeds; the last one may lack its own."""
    lines = [line + b"\n" for line in content.split(b"\n")]
    last = lines.pop()[:-1]
    return [*lines, last] if last else lines


def align(old: Sequence[Hashable], new: Sequence[Hashable]) -> list[Edit]:
    """The edits that turn `old` into `new`, in order, with something equal between any two."""
    merged: list[Edit] = []
    for edit in _edits(old, new):
        if merged and (merged[-1].old_to, merged[-1].new_to) == (edit.old_from, edit.new_from):
            edit = Edit(merged[-1].old_from, edit.old_to, merged.pop().new_from, edit.new_to)
        merged.append(edit)
    return merged


def _edits(old: Sequence[Hashable], new: Sequence[Hashable]) -> Iterator[Edit]:
    """Edits in order; gaps wait on a stack, so that hostile input cannot exhaust Python's own."""
    gaps = [(0, len(old), 0, len(new))]
    budget = _BUDGET
    while gaps:
        old_from, old_to, new_from, new_to = gaps.pop()
        left, right = old[old_from:old_to], new[new_from:new_to]
        start = common_start(left, 0, right, 0)
        end = common_end(left, right, min(len(left), len(right)) - start)
        left, right = left[start : len(left) - end], right[start : len(right) - end]
        old_from, new_from = old_from + start, new_from + start
        if not left or not right:
            if left or right:
                yield Edit(old_from, old_from + len(left), new_from, new_from + len(right))
            continue
        depth = min(_FEW_EDITS, isqrt(budget))
        trace = _search(left, right, depth)
        anchors = [] if trace else _anchors(left, right)
        if not trace and not anchors:
            depth = min(_MOST_EDITS, isqrt(budget))
            trace = _search(left, right, depth)
        budget -= depth * depth
        if trace:
            yield from _script(trace, len(left), len(right), old_from, new_from)
        elif anchors:
            gaps += reversed(list(_between(anchors, old_from, len(left), new_from, len(right))))
        else:
            yield Edit(old_from, old_from + len(left), new_from, new_from + len(right))


def _between(
    anchors: list[tuple[int, int]], old_from: int, old_size: int, new_from: int, new_size: int
) -> Iterator[tuple[int, int, int, int]]:
    """The gaps before, between and after the anchors, as far as there is anything in them."""
    at, to = 0, 0
    for one, other in [*anchors, (old_size, new_size)]:
        if one > at or other > to:
            yield old_from + at, old_from + one, new_from + to, new_from + other
        at, to = one + 1, other + 1


def _anchors(left: Sequence[Hashable], right: Sequence[Hashable]) -> list[tuple[int, int]]:
    """Lines that stand once on each side and in the same order: the longest such chain."""
    in_left, in_right = Counter(left), Counter(right)
    place = {line: at for at, line in enumerate(right) if in_right[line] == 1}
    pairs = [(at, place[line]) for at, line in enumerate(left) if line in place and in_left[line] == 1]
    return _longest_rising(pairs)


def _longest_rising(pairs: list[tuple[int, int]]) -> list[tuple[int, int]]:
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


def _script(trace: list[dict[int, int]], x: int, y: int, old_from: int, new_from: int) -> Iterator[Edit]:
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
