"""What a change means: which setting, under which path, became what."""

import re
from collections import Counter
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from enum import StrEnum
from functools import lru_cache

from historon.compare.lines import Edit
from historon.compare.moves import Move, find_moves, without
from historon.compare.outline import Outline, first_words, outline_of, words_of
from historon.compare.words import edited_words, paired

__all__ = ["Change", "How", "counted", "folded", "outlines_of", "text_changes"]

_SEPARATOR = " / "
_FEW = 6  # changes that are alike are shown each
_EXAMPLES = 2  # of more
_NAMED = 3  # places of many
_UNDER = 100  # lines of a section that are kept with its heading
_ASSIGNED = re.compile(rb"\"?([\w./-]{1,200})\"?[ \t]*(?:=|:(?!:))[ \t]*(?=\S)")
# After these words stands what a person wrote, which is one value.
_FREE_TEXT = {b"description", b"remark", b"comment", b"note", b"label", b"banner", b"alias", b"contact", b"location"}


class How(StrEnum):
    """How a place differs; what leads nowhere since then is reported like a change."""

    ADDED = "added"
    REMOVED = "removed"
    EDITED = "edited"
    MOVED = "moved"
    UNRESOLVED = "unresolved"  # what is used is defined nowhere


@dataclass(frozen=True)
class Change:
    """One change at one place: what was there and what is there now, fit for eyes.

    `old_at` and `new_at` are line numbers, and `ranks` of a move the places among its siblings, all counted from 1. Of
    a section that came or went or moved, `more` counts the lines under its heading; `under` are the first hundred of
    those that came or went with it. `used_by` are the places that use the block it is in.
    """

    how: How
    path: str
    old: str = ""
    new: str = ""
    old_at: int | None = None
    new_at: int | None = None
    more: int = 0
    ranks: tuple[int, int] | None = None
    under: tuple[str, ...] = ()
    used_by: tuple[str, ...] = ()

    @property
    def sign(self) -> str:
        """One character for how it differs."""
        return {How.ADDED: "+", How.REMOVED: "-", How.EDITED: "~", How.MOVED: ">", How.UNRESOLVED: "!"}[self.how]

    @property
    def uses(self) -> str:
        """What uses the block that this is in, in words; empty where that is not known."""
        return f"used by {counted(self.used_by)}" if self.used_by else ""

    @property
    def words(self) -> str:
        """The change in a few words, without its path."""
        more = f" (and {self.more} line{'s' * (self.more > 1)} with it)" if self.more else ""
        if self.how is How.EDITED:
            if self.old and self.new:
                return f"{self.old} → {self.new}"
            return f"{self.old or self.new}"
        if self.how is How.MOVED and self.ranks:
            return f"{self.new}{more} moved from {self.ranks[0]} to {self.ranks[1]}".strip()
        return (self.new or self.old) + more


def counted(places: Sequence[str]) -> str:
    """How many places, and the first of them."""
    more = f" and {len(places) - _NAMED} more" if len(places) > _NAMED else ""
    return f"{len(places)}: {'; '.join(places[:_NAMED])}{more}"


def outlines_of(
    old: Sequence[bytes],
    new: Sequence[bytes],
    kind: str | None,
    shown: tuple[Sequence[bytes] | None, Sequence[bytes] | None] = (None, None),
    *,
    may_be_several: bool = True,
) -> tuple[Outline, Outline]:
    """The outlines of two texts, both of one kind: that of the longer one, unless another is given.

    `shown` are their lines fit for eyes, where these are not; `may_be_several` is as of an Outline.
    """
    kind = kind or outline_of(max(old, new, key=len)).kind
    sides = zip((old, new), shown, strict=True)
    before, after = (outline_of(lines, kind, seen, may_be_several=may_be_several) for lines, seen in sides)
    return before, after


def text_changes(edits: Sequence[Edit], outlines: tuple[Outline, Outline], *, fold: bool = True) -> list[Change]:
    """The changes that the edits between two texts make, each under its path in the outline.

    With `fold` a section that came or went as a whole is one change, otherwise each of its lines is.
    """
    old, new = outlines[0].lines, outlines[1].lines
    moves = find_moves(edits, old, new)
    gone = {move.old_from + n for move in moves for n in range(move.count)}
    came = {move.new_from + n for move in moves for n in range(move.count)}
    left = without(edits, gone, came)
    sides = _Side(outlines[0]), _Side(outlines[1])
    found = [_moved(move, *sides) for move in moves]
    for edit in left:
        found += _edit_changes(edit, *sides, fold=fold)
    return sorted(found, key=lambda change: change.new_at or change.old_at or 0)


def folded(changes: Sequence[Change]) -> Iterator[tuple[Change, int]]:
    """The changes to be shown, and how many more like one are left out behind it: of many that are alike two do."""
    many = Counter(map(_alike, changes))
    shown = Counter[object]()
    for one in changes:
        alike = _alike(one)
        shown[alike] += 1
        if many[alike] <= _FEW or shown[alike] <= _EXAMPLES:
            left = many[alike] - _EXAMPLES
            yield one, left if many[alike] > _FEW and shown[alike] == _EXAMPLES else 0


def _alike(change: Change) -> object:
    """What changes that do the same have in common: all but where they do it."""
    headings = change.path.split(_SEPARATOR)
    return change.how, change.old, change.new, len(headings), headings[-1] if len(headings) > 1 else ""


class _Side:
    """One of two texts, with its outline."""

    def __init__(self, outline: Outline) -> None:
        self.lines = outline.shown
        self.outline = outline

    def text(self, at: int) -> str:
        return self.lines[at].decode("utf-8", "replace").strip()

    def path(self, at: int) -> tuple[str, ...]:
        document = self.outline.document(at)
        headings = self.outline.path(at)
        return _decoded((document, *headings) if document else headings)

    def placed(self, at: int) -> tuple[str, str]:
        """Where a line stands, and what it says there."""
        words, text = self.outline.words_above(at).decode("utf-8", "replace"), self.text(at)
        rest = text[len(words) :].lstrip(" \t=:") if words and text.startswith(words) else ""
        path = self.path(at)
        if rest:
            return (_SEPARATOR.join([*path, words]), rest)
        return (_SEPARATOR.join(path), text)

    def blocks(self, places: Sequence[int], *, fold: bool) -> Iterator[tuple[int, Sequence[int]]]:
        """Lines as sections: each with those that belong to it, under it or as remarks right above it."""
        inside: set[int] = set()
        first = -1
        under: list[int] = []
        remarks: list[int] = []
        there = set(places)
        for at in places:
            if fold and first >= 0 and self.outline.parent(at) in inside:
                inside.add(at)
                under += [*remarks, *[at] * self.outline.tells(at)]
                remarks = []
            elif fold and at + 1 in there and self.outline.remarks(at) and self.outline.tells(at + 1):
                remarks.append(at)
            elif self.outline.tells(at):
                if first >= 0:
                    yield first, under
                first, under, remarks, inside = at, remarks, [], {at}
        if first >= 0:
            yield first, under


def _moved(move: Move, old: _Side, new: _Side) -> Change:
    first = next((n for n in range(move.count) if new.outline.tells(move.new_from + n)), 0)
    at, to = move.old_from + first, move.new_from + first
    place = new.path(to)
    before = old.path(at)
    if before != place:
        words = f"{new.text(to)}, from {_SEPARATOR.join(before) or 'the outermost level'}"
    else:
        words = new.text(to)
    under = sum(new.outline.tells(to + n) for n in range(1, move.count - first))
    ranks = old.outline.rank(at), new.outline.rank(to)
    return Change(How.MOVED, _SEPARATOR.join(place), words, words, at + 1, to + 1, under, ranks)


def _edit_changes(edit: Edit, old: _Side, new: _Side, *, fold: bool) -> Iterator[Change]:
    gone = [at for at in range(edit.old_from, edit.old_to) if old.outline.tells(at)]
    came = [at for at in range(edit.new_from, edit.new_to) if new.outline.tells(at)]
    pairs = dict(_pairs(gone, came, old, new)) if gone and came else {}
    for at, to in pairs.items():
        yield _edited(old, at, new, to)
    for at, under in old.blocks([at for at in gone if at not in pairs], fold=fold):
        place, words = old.placed(at)
        lines = tuple(map(old.text, under[:_UNDER]))
        yield Change(How.REMOVED, place, old=words, old_at=at + 1, more=len(under), under=lines)
    taken = set(pairs.values())
    for at, under in new.blocks([at for at in came if at not in taken], fold=fold):
        place, words = new.placed(at)
        lines = tuple(map(new.text, under[:_UNDER]))
        yield Change(How.ADDED, place, new=words, new_at=at + 1, more=len(under), under=lines)


def _pairs(gone: Sequence[int], came: Sequence[int], old: _Side, new: _Side) -> Iterator[tuple[int, int]]:
    """Which lines became which: under the same path, alike, or the only ones that begin with the same word."""
    became = _by_path(came, new)
    for path, left in _by_path(gone, old).items():
        right = became.get(path, [])
        lines, others = [old.text(at) for at in left], [new.text(at) for at in right]
        for one, other in paired(lines, others) if right else ():
            if _same_setting(lines[one], others[other]):
                yield left[one], right[other]


def _by_path(places: Sequence[int], side: _Side) -> dict[tuple[bytes, ...], list[int]]:
    found: dict[tuple[bytes, ...], list[int]] = {}
    for at in places:
        found.setdefault((side.outline.document(at), *side.outline.headings(at)), []).append(at)
    return found


def _same_setting(old: str, new: str) -> bool:
    if old.split(None, 1)[:1] == new.split(None, 1)[:1] or any(edited_words(old, new)):
        return True
    return _assigned(old.encode(), new.encode()) is not None


def _edited(old: _Side, at: int, new: _Side, to: int) -> Change:
    """An edited line: the words that both begin with belong to the path, the rest is what changed."""
    one, other = old.lines[at].strip(), new.lines[to].strip()
    if one.split() == other.split():
        place = _SEPARATOR.join([*new.path(to), _text(words_of(other))])
        return Change(How.EDITED, place, "", _blanks(old.lines[at], new.lines[to]), at + 1, to + 1)
    same = first_words(one, other)
    words, others = words_of(one), words_of(other)
    known = len(words_of(same))
    if known == min(len(words), len(others)):
        known -= 1  # one went on where the other ended
    known = next((n + 1 for n, word in enumerate(words[:known]) if word.lower() in _FREE_TEXT), known)
    if not known and (assigned := _assigned(one, other)):
        name, before, after = assigned
        return Change(How.EDITED, _SEPARATOR.join([*new.path(to), name]), before, after, at + 1, to + 1)
    setting = _text(words[:known]).rstrip(" =:")
    path = [*new.path(to), *[setting.strip('"') if setting.count('"') == 2 else setting] * bool(known)]
    before, after = _bare(_text(words[known:]), _text(others[known:]))
    return Change(How.EDITED, _SEPARATOR.join(path), before, after, at + 1, to + 1)


def _bare(before: str, after: str) -> tuple[str, str]:
    """Both values without the sign that ends either."""
    both = before[-1:] == after[-1:] in (",", ";") and len(before) > 1 and len(after) > 1
    return (before[:-1].rstrip(), after[:-1].rstrip()) if both else (before, after)


def _blanks(old: bytes, new: bytes) -> str:
    """In what two lines differ that have the same words."""
    if old.rstrip(b"\r\n") == new.rstrip(b"\r\n"):
        return "only its line end"
    if old.strip() == new.strip():
        if old.rstrip() != new.rstrip():
            return "only its indentation"
        return "only blanks at its end"
    return "only blanks between its words"


def _assigned(old: bytes, new: bytes) -> tuple[str, str, str] | None:
    """Of two lines that give a value to one name, such as `a=b` and `a=c`: the name and both values."""
    one, other = _ASSIGNED.match(old), _ASSIGNED.match(new)
    if one is None or other is None or one[1] != other[1]:
        return None
    return _text([one[1]]), *_bare(_text([old[one.end() :]]), _text([new[other.end() :]]))


@lru_cache(maxsize=1024)
def _decoded(headings: tuple[bytes, ...]) -> tuple[str, ...]:
    return tuple(heading.decode("utf-8", "replace") for heading in headings)


def _text(words: Sequence[bytes]) -> str:
    return b" ".join(words).decode("utf-8", "replace")
