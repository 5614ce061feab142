"""Aligning two texts: equal stretches are walked over as bytes; only around a difference are lines looked at.

Where two texts part, the shortest edits are sought after which they agree for a good while (Myers 1986, with an open
end). Where that takes too long, the rest is aligned line by line, see `lines`.
"""

from collections.abc import Iterator, Sequence

from historon.base.sequences import common_end, common_start
from historon.compare.lines import Edit, align, join_edits, path_edits

__all__ = ["align_texts", "stretches_apart"]

_WINDOWS = ((1500, 10), (8192, 40), (2**16, 120))  # bytes that are split into lines, and edits that are sought in them
_STEPS = 1_000_000  # of seeking in all, so that no input makes it quadratic
_NEAR = 400  # bytes that agree after an edit of one line
_AGREED = 12  # lines after which two texts are taken to agree again ...
_DISTINCT = 5  # ... if as many of them are not the same

_Found = tuple[Sequence[Edit], int, int]  # edits, and the lines of each side that they are about


def align_texts(old: bytes, new: bytes) -> list[Edit]:
    """The edits, by line numbers counted from 0, that turn one text into the other."""
    return join_edits(_Walk(old, new).edits())


def stretches_apart(old: bytes, new: bytes) -> Iterator[tuple[bytes, bytes]]:
    """The stretches of whole lines, of either text, outside of which they are equal."""
    return _Walk(old, new).stretches()


class _Walk:
    """A walk through both texts at once: `at` and `to` are where it stands, always at the beginning of lines."""

    def __init__(self, old: bytes, new: bytes) -> None:
        self._old, self._new = old, new
        self._old_end, self._new_end = _common_ends(old, new)
        self._at = self._to = 0
        self._steps = _STEPS

    def edits(self) -> Iterator[Edit]:
        line = other = 0
        while self._differs():
            same = self._same()
            if same:
                count = self._old.count(b"\n", self._at, self._at + same)
                self._at, self._to, line, other = self._at + same, self._to + same, line + count, other + count
                continue
            edits, gone, came = self._one_line() or self._agreeing() or self._rest()
            for edit in edits:
                yield Edit(edit.old_from + line, edit.old_to + line, edit.new_from + other, edit.new_to + other)
            line, other = line + gone, other + came

    def stretches(self) -> Iterator[tuple[bytes, bytes]]:
        while self._differs():
            same = self._same()
            if same:
                self._at, self._to = self._at + same, self._to + same
                continue
            at, to = self._at, self._to
            if not (self._one_line() or self._agreeing()):
                self._at, self._to = self._old_end, self._new_end
            yield self._old[at : self._at], self._new[to : self._to]

    def _differs(self) -> bool:
        """Whether something is left before the common end."""
        return self._at < self._old_end or self._to < self._new_end

    def _same(self) -> int:
        """The bytes of the whole lines that are the same on both sides."""
        same = common_start(self._old, self._at, self._new, self._to)
        same = min(same, self._old_end - self._at, self._new_end - self._to)
        return max(0, self._old.rfind(b"\n", self._at, self._at + same) + 1 - self._at)

    def _one_line(self) -> _Found | None:
        """The commonest of all edits, found soonest: one line went, came, or became another."""
        old_next = self._old.find(b"\n", self._at, self._old_end - _NEAR) + 1
        new_next = self._new.find(b"\n", self._to, self._new_end - _NEAR) + 1
        if not old_next or not new_next:
            return None
        for gone, came in ((1, 0), (0, 1), (1, 1)):
            at, to = old_next if gone else self._at, new_next if came else self._to
            ahead = self._old[at : at + _NEAR]
            if ahead == self._new[to : to + _NEAR] and len(set(ahead.split(b"\n"))) >= _DISTINCT + 2:
                self._at, self._to = at, to
                return [Edit(0, gone, 0, came)], gone, came
        return None

    def _agreeing(self) -> _Found | None:
        """The shortest edits up to where the texts agree again; None if that is far away."""
        for size, most in _WINDOWS:
            if max(self._old_end - self._at, self._new_end - self._to) <= size or self._steps < 0:
                return None
            left = _window(self._old, self._at, self._old_end, size)
            right = _window(self._new, self._to, self._new_end, size)
            found = _open_search(left, right, most)
            self._steps -= (len(found[0]) if found else most) ** 2
            if found:
                _, x, y = found
                self._at += sum(map(len, left[:x])) + x
                self._to += sum(map(len, right[:y])) + y
                return found
        return None

    def _rest(self) -> _Found:
        left, right = (
            _bare_lines(self._old[self._at : self._old_end]),
            _bare_lines(self._new[self._to : self._new_end]),
        )
        self._at, self._to = self._old_end, self._new_end
        return align(left, right), len(left), len(right)


def _common_ends(old: bytes, new: bytes) -> tuple[int, int]:
    """Where the lines begin that both texts end with."""
    end = common_end(old, new, min(len(old), len(new)))
    if end < max(len(old), len(new)):
        # The first line of a common end may have begun differently.
        cut = old.find(b"\n", len(old) - end) + 1
        end = len(old) - cut if end and cut else 0
    return len(old) - end, len(new) - end


def _bare_lines(text: bytes) -> list[bytes]:
    """The lines without their line feeds; a last line that lacks its own is distinguished from one that has it."""
    lines = text.split(b"\n")
    last = lines.pop()
    return [*lines, last + b"\n\\"] if last else lines


def _window(text: bytes, start: int, end: int, size: int) -> list[bytes]:
    """The whole lines that begin in a window; a last line of the text that lacks its line feed is never among them."""
    return text[start : text.rfind(b"\n", start, min(end, start + size)) + 1].split(b"\n")[:-1]


def _open_search(left: Sequence[bytes], right: Sequence[bytes], most: int) -> tuple[list[Edit], int, int] | None:
    """The fewest edits after which the lines agree for a good while, and where that is."""
    furthest = {1: 0}
    trace: list[dict[int, int]] = []
    width, height = len(left), len(right)
    for depth in range(most + 1):
        reached: dict[int, int] = {}
        for k in range(-depth, depth + 1, 2):
            down = k == -depth or (k != depth and furthest[k - 1] < furthest[k + 1])
            x = furthest[k + 1] if down else furthest[k - 1] + 1
            y = x - k
            if x < width and y < height and left[x] == right[y]:
                run = common_start(left, x, right, y)
                if run >= _AGREED and len(set(left[x : x + run])) >= _DISTINCT:
                    reached[k] = x
                    return list(path_edits([*trace, reached], x, y, 0, 0)), x, y
                x += run
            reached[k] = x
        trace.append(reached)
        furthest = reached
    return None
