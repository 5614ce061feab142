"""Lines that were not removed and added but moved."""

import re
from collections import defaultdict
from collections.abc import Iterable, Sequence
from dataclasses import dataclass

from historon.compare.lines import Edit

__all__ = ["Move", "find_moves", "without"]

_TELLING = 8  # letters and digits in a line that is not everywhere by chance
_ALONE = 3  # lines in a row that are a move even where each stands elsewhere too
_MOST = 200_000  # lines that went, times places where they came, and lines behind both, that are looked at
_LETTERS = re.compile(rb"\w")


@dataclass(frozen=True, slots=True)
class Move:
    """`count` lines from `old_from` on stand at `new_from` now."""

    old_from: int
    new_from: int
    count: int


def find_moves(edits: Sequence[Edit], old: Sequence[bytes], new: Sequence[bytes], *, every: bool = False) -> list[Move]:
    """The longest runs of lines that were removed in one place and added in another, none of them twice.

    Unless `every` one is wanted, those are left out that say too little to be known again.
    """
    gone: dict[bytes, list[int]] = defaultdict(list)
    came: dict[bytes, int] = defaultdict(int)
    removed: set[int] = set()
    added: set[int] = set()
    for edit in edits:
        removed.update(range(edit.old_from, edit.old_to))
        added.update(range(edit.new_from, edit.new_to))
        for at in range(edit.old_from, edit.old_to):
            gone[old[at]].append(at)
        for to in range(edit.new_from, edit.new_to):
            came[new[to]] += 1
    found: list[Move] = []
    budget = _MOST
    for to in sorted(added):
        if to not in added or (budget := budget - len(gone.get(new[to], ()))) < 0:
            continue
        runs = [(_run(old, at, removed, new, to, added), at) for at in gone.get(new[to], ()) if at in removed]
        budget -= sum(count for count, _ in runs)
        count, at = max(runs, default=(0, 0), key=lambda run: run[0])
        if count and (every or _is_move(new[to : to + count], gone, came)):
            found.append(Move(at, to, count))
            removed.difference_update(range(at, at + count))
            added.difference_update(range(to, to + count))
    return found


def without(edits: Iterable[Edit], old: set[int], new: set[int]) -> list[Edit]:
    """The edits with these lines taken out of what went and of what came."""
    left = []
    for edit in edits:
        gone = _stretches(edit.old_from, edit.old_to, old)
        came = _stretches(edit.new_from, edit.new_to, new)
        for index in range(max(len(gone), len(came))):
            one = gone[index] if index < len(gone) else (edit.old_to, edit.old_to)
            other = came[index] if index < len(came) else (edit.new_to, edit.new_to)
            left.append(Edit(*one, *other))
    return left


def _stretches(start: int, end: int, left_out: set[int]) -> list[tuple[int, int]]:
    found: list[tuple[int, int]] = []
    for at in range(start, end):
        if at in left_out:
            continue
        if found and found[-1][1] == at:
            found[-1] = found[-1][0], at + 1
        else:
            found.append((at, at + 1))
    return found


def _run(old: Sequence[bytes], at: int, removed: set[int], new: Sequence[bytes], to: int, added: set[int]) -> int:
    count = 0
    while at + count in removed and to + count in added and old[at + count] == new[to + count]:
        count += 1
    return count


def _is_move(lines: Sequence[bytes], gone: dict[bytes, list[int]], came: dict[bytes, int]) -> bool:
    """Whether these lines say enough to be known again elsewhere."""
    telling = [line for line in lines if len(_LETTERS.findall(line)) >= _TELLING]
    alone = any(len(gone[line]) == came[line] == 1 for line in telling)
    return alone or (len(telling) >= _ALONE and len(lines) > _ALONE)
