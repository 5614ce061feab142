"""What changed between two exports, part by part."""

import hashlib
import re
from collections import Counter
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from enum import StrEnum
from functools import cached_property
from io import BytesIO

from historon.base.quantities import size_text
from historon.compare.archives import ArchiveError, is_archive, unpacked
from historon.compare.changes import Change, How, outlines_of, text_changes
from historon.compare.documents import Document, parse_document, parse_trees, same_meaning
from historon.compare.lines import Edit, align
from historon.compare.moves import find_moves, without
from historon.compare.outline import Outline, outline_of
from historon.compare.sliding import slid
from historon.compare.structures import document_changes, order_is_free
from historon.compare.texts import align_texts
from historon.compare.uses import with_references
from historon.store import LARGE, TreeRecord, tree_part_name
from historon.versions import Masks, ShownLines, is_binary, split_lines, stands_for

__all__ = ["Kind", "PartChange", "compare_exports", "readings"]

_RENAMED_ALIKE = 0.6  # how much of two texts must be the same for one to be the other, under a new name
_MOST_PAIRS = 400  # parts that went, times parts that came, that are compared with each other for it
_READABLE = re.compile(rb"[\x20-\x7e]{6,200}")
_DEEPEST = 3  # archives in archives in archives
_ROOM = 8 * LARGE  # bytes of all members of both sides
_DATE = re.compile(r"\d{4}[-_.]?\d{2}[-_.]?\d{2}(?:[-_.T ]?\d{2}[-_.:]?\d{2}(?:[-_.:]?\d{2})?)?|\d{6,}")
_UTF16 = (b"\xff\xfe", b"\xfe\xff")
_MANY_LINES = 8  # that differ, before a text is reported as a whole
_STRINGS_IN = 2**20  # bytes of a binary part in which readable texts are looked for
_MOST_STRINGS = 12  # that differ; where there are more they are chance, or all new

_Lines = tuple[Sequence[bytes], Sequence[bytes]]


class Kind(StrEnum):
    """How a part differs."""

    ADDED = "added"
    REMOVED = "removed"
    EDITED = "edited"
    RENAMED = "renamed"
    BINARY = "binary"


@dataclass(frozen=True)
class PartChange:
    """One part that differs: both contents, the edits that count, and the masks through which eyes may see it.

    `was` is its name before, where it has another one now; `is_document` says whether both sides have been read as one;
    `lines` are those of both contents, where they have been parted into lines already.
    """

    name: str
    kind: Kind
    old_content: bytes = field(repr=False)  # it may hold secrets, and a notebook shows what it is given
    new_content: bytes = field(repr=False)
    edits: Sequence[Edit] = field(repr=False)
    masks: Masks = field(repr=False)
    was: str | None = None
    is_document: bool = False
    lines: _Lines | None = field(default=None, repr=False)

    @cached_property
    def old(self) -> ShownLines:
        """The lines before, fit for eyes."""
        return self.masks.shown(self.old_content, self.lines and self.lines[0])

    @cached_property
    def new(self) -> ShownLines:
        """The lines after, fit for eyes."""
        return self.masks.shown(self.new_content, self.lines and self.lines[1])

    @cached_property
    def outlines(self) -> tuple[Outline, Outline]:
        """How the lines before and after are nested, both read as of one kind."""
        several = any(map(_may_be_several, (self.old_content, self.new_content)))
        shown = (self.old, self.new)
        return outlines_of(self.old.bare, self.new.bare, self.masks.outline, shown, may_be_several=several)

    @property
    def added(self) -> int:
        """How many lines came."""
        return sum(edit.new_to - edit.new_from for edit in self.edits)

    @property
    def removed(self) -> int:
        """How many lines went."""
        return sum(edit.old_to - edit.old_from for edit in self.edits)

    @property
    def structured(self) -> bool:
        """Whether the changes are those of a document's tree, not those of lines."""
        return self._document_changes is not None

    @cached_property
    def changes(self) -> Sequence[Change]:
        """What the edits mean, each under its path; a part that came, went or is binary is one change."""
        if self.kind is Kind.ADDED:
            return [Change(How.ADDED, "", "", _described(self.new_content), None, 1)]
        if self.kind is Kind.REMOVED:
            return [Change(How.REMOVED, "", _described(self.old_content), "", 1, None)]
        if self.kind is Kind.BINARY:
            whole = Change(How.EDITED, "", _described(self.old_content), _described(self.new_content))
            # Without the names that stand beside them in a text, nobody can tell which of them are secrets.
            if self.masks.reveal:
                return [whole, *_strings(self.old_content, self.new_content)]
            return [whole]
        renamed = [Change(How.EDITED, "name", self.was, self.name)] if self.was else []
        if self._document_changes is not None:
            return [*renamed, *self._document_changes]
        told = [*renamed, *(self._at_large() or self._text_changes())]
        return told or [Change(How.EDITED, "", "", "only blank lines and separators")]

    def _text_changes(self) -> Sequence[Change]:
        contents = self.old_content, self.new_content
        return with_references(text_changes(self.edits, self.outlines), self.outlines, contents)

    def _at_large(self) -> Sequence[Change]:
        """What can be said of a text as a whole, where that says more than its lines: another one, or another order."""
        if min(len(self.old), len(self.new)) < _MANY_LINES or self.added < _MANY_LINES:
            return []
        sides = [Counter(filter(None, map(bytes.strip, lines.bare))) for lines in (self.old, self.new)]
        if sides[0] == sides[1]:
            return [
                Change(How.EDITED, "", "", f"only the order of its lines: {self.added:,} of {len(self.new):,} moved")
            ]
        if not sides[0].keys() & sides[1].keys():
            words = f"{_described(self.new_content)}, a different file"
            return [Change(How.EDITED, "", _described(self.old_content), words)]
        return []

    @cached_property
    def _document_changes(self) -> Sequence[Change] | None:
        if not self.is_document or not self.edits:
            return None
        seen = self.masks.hide(self.old_content), self.masks.hide(self.new_content)
        changes = _structure(self.name, *seen, self.masks)
        # Where the trees do not differ, what they do not keep does: then the lines are the change.
        return list(changes) or None if changes is not None else None

    def only(self, path: str) -> "PartChange | None":
        """The same with nothing but the edits under a place in the outline or document; None without any."""
        wanted = path.lower()
        kept = [change for change in self.changes if wanted in change.path.lower()]
        if not kept:
            return None
        sides = self.outlines

        def under(outline: Outline, lines: Sequence[bytes], start: int, end: int) -> bool:
            return any(wanted.encode() in _place(outline, lines, at).lower() for at in range(start, end))

        edits = [
            edit
            for edit in self.edits
            if self.structured
            or under(sides[0], self.old, edit.old_from, edit.old_to)
            or under(sides[1], self.new, edit.new_from, edit.new_to)
        ]
        made = replace(self, edits=edits)
        made.__dict__["changes"] = kept
        return made


def compare_exports(old: Mapping[str, bytes], new: Mapping[str, bytes], masks: Masks) -> list[PartChange]:
    """The parts that differ by more than noise, by name. Archives are looked into."""
    sides = _Opened(dict(old), dict(new))
    sides.look_into()
    before, after = sides.before, sides.after
    renamed = _renamed(before, after)
    former = set(renamed.values())
    found = []
    for name in sorted(before.keys() | after.keys()):
        was = renamed.get(name)
        if name in former and name not in after:
            continue
        one, other = before.get(was or name), after.get(name)
        if (was or one != other) and (change := _compare(name, one, other, masks, was)):
            found.append(change)
    folders = [PartChange(name, Kind.RENAMED, b"", b"", (), masks, was) for name, was in sides.moved.items()]
    return sorted([*folders, *found], key=lambda change: change.name) if folders else found


@dataclass
class _Opened:
    """Both sides, with the archives that differ replaced by what is in them, also archives in archives."""

    before: dict[str, bytes]
    after: dict[str, bytes]
    moved: dict[str, str] = field(default_factory=dict)  # folders of dated names, with their former names

    def look_into(self) -> None:
        closed: set[str] = set()
        room = _ROOM
        for _ in range(_DEEPEST):
            for name in sorted(self.before.keys() & self.after.keys() - closed):
                old, new = self.before[name], self.after[name]
                if old == new or not is_archive(old) or not is_archive(new):
                    continue
                try:
                    one, other = unpacked(name, BytesIO(old)), unpacked(name, BytesIO(new))
                except ArchiveError:
                    closed.add(name)  # compared as what it is
                    continue
                room -= sum(map(len, one.values())) + sum(map(len, other.values()))
                if room < 0:
                    return
                del self.before[name], self.after[name]
                self.before.update(self._in_one_folder(name, one, other))
                self.after.update(other)

    def _in_one_folder(self, name: str, old: dict[str, bytes], new: dict[str, bytes]) -> dict[str, bytes]:
        """The old members under the folder of the new ones, where both are in one whose name differs by its date."""
        tree = tree_part_name(name)
        was, now = ({path[len(name) + 1 :].partition("/")[0] for path in side if path != tree} for side in (old, new))
        if len(was) != 1 or len(now) != 1 or was == now:
            return old
        (former,), (folder,) = was, now
        if _DATE.sub("#", former) != _DATE.sub("#", folder):
            return old
        self.moved[f"{name}/{folder}"] = f"{name}/{former}"
        cut = len(name) + 1 + len(former)
        moved = {f"{name}/{folder}{path[cut:]}": content for path, content in old.items() if path != tree}
        if tree in old:
            moved[tree] = TreeRecord(old[tree].replace(former.encode(), folder.encode()))
        return moved


def _renamed(old: Mapping[str, bytes], new: Mapping[str, bytes]) -> dict[str, str]:
    """The former names of parts that have another name now."""
    gone = {name: old[name] for name in old.keys() - new.keys() if old[name]}
    found: dict[str, str] = {}
    holding: dict[bytes, list[str]] = {}
    for was in sorted(gone, reverse=True):
        holding.setdefault(gone[was], []).append(was)
    for name in sorted(new.keys() - old.keys()):
        same = holding.get(new[name])
        if same:
            found[name] = same.pop()
            del gone[found[name]]
    came = [name for name in sorted(new.keys() - old.keys() - found.keys()) if new[name]]
    if len(gone) * len(came) <= _MOST_PAIRS:
        for name in came:
            alike, was = max(((_alike(gone[was], new[name]), was) for was in sorted(gone)), default=(0.0, ""))
            if alike >= _RENAMED_ALIKE:
                found[name] = was
                del gone[was]
    return found


def _alike(old: bytes, new: bytes) -> float:
    """How much of the longer of two texts stands in the other too, by lines that say something."""
    if is_binary(old) or is_binary(new):
        return 0
    one, other = (Counter(line for line in text.splitlines() if len(line) > 3) for text in (old, new))
    longer = max(one.total(), other.total())
    return (one & other).total() / longer if longer else 0


def _compare(name: str, old: bytes | None, new: bytes | None, masks: Masks, was: str | None) -> PartChange | None:
    kind = Kind.RENAMED if was else Kind.EDITED
    if old is None or new is None:
        kind = Kind.ADDED if old is None else Kind.REMOVED
    left, right = _in_utf8([old, new])
    if is_binary(left) or is_binary(right):
        kind = Kind.BINARY if kind is Kind.EDITED else kind
        return PartChange(name, kind, left, right, (), masks, was)
    both = old is not None and new is not None
    edits = align_texts(left, right)
    lines = (split_lines(left), split_lines(right)) if edits else ([], [])
    through = masks.for_part(left) if isinstance(right, TreeRecord) else masks
    if both and through.has_noise:
        edits = _without_noise(edits, lines, through)
    if any(edit.old_to - edit.old_from != edit.new_to - edit.new_from for edit in edits):
        edits = slid(edits, *lines)
    trees = _trees(name, left, right, masks) if both and edits else None
    if trees and not masks.with_noise and _means_the_same(trees, left, right, masks):
        edits = []  # the same document, written in another way
    if kind is Kind.EDITED and not edits:
        return None
    return PartChange(name, kind, left, right, edits, masks, was, trees is not None, lines if edits else None)


def _in_utf8(sides: Sequence[bytes | None]) -> list[bytes]:
    """Both contents, those that begin with the mark of UTF-16 (RFC 2781, 3.2) written in UTF-8, where all can be."""
    contents = [content or b"" for content in sides]
    if not all(content[:2] in _UTF16 for content in contents if content):
        return contents
    try:
        written = [content.decode("utf-16").encode() for content in contents]
    except UnicodeError:
        return contents
    return contents if written[0] == written[1] else written  # the same text in another encoding is not the same


def _may_be_several(content: bytes) -> bool:
    """Whether a line begins as the mark between documents does (YAML 1.2, 9.2)."""
    return content.startswith(b"---") or b"\n---" in content


def _means_the_same(trees: tuple[Document, Document], old: bytes, new: bytes, masks: Masks) -> bool:
    """Whether neither the trees differ nor what they do not keep.

    Where order in them was said to mean nothing, the trees decide.
    """
    if next(document_changes(*trees, masks), None) is not None:
        return False
    return same_meaning(old, new, masks.xpaths) or any(order_is_free(tree, masks) for tree in trees)


def _structure(name: str, old: bytes, new: bytes, masks: Masks) -> Iterator[Change] | None:
    """The changes of a document's tree; None when the part is no document."""
    trees = _trees(name, old, new, masks)
    return document_changes(*trees, masks) if trees else None


def _trees(name: str, old: bytes, new: bytes, masks: Masks) -> tuple[Document, Document] | None:
    if isinstance(old, TreeRecord) and isinstance(new, TreeRecord):
        return parse_trees(old, new)
    places = {"xpaths": masks.xpaths, "pointers": masks.pointers}
    left = parse_document(name, old, **places)
    right = parse_document(name, new, **places) if left else None
    if left is None or right is None or left.kind != right.kind:
        return None
    return left, right


def _without_noise(edits: list[Edit], lines: _Lines, masks: Masks) -> list[Edit]:
    telling = [*_telling(edits, lines, masks)]
    return _placed(telling, lines, masks) if telling and masks.has_places else telling


def _telling(edits: list[Edit], lines: _Lines, masks: Masks) -> Iterator[Edit]:
    """The edits without those that are noise: each is aligned once more by what of its lines counts."""
    old, new = lines
    for edit in edits:
        left = [masks.essence(_bare(line)) for line in old[edit.old_from : edit.old_to]]
        right = [masks.essence(_bare(line)) for line in new[edit.new_from : edit.new_to]]
        at, to = edit.old_from, edit.new_from
        for inner in align(left, right):
            if any(left[inner.old_from : inner.old_to]) or any(right[inner.new_from : inner.new_to]):
                yield Edit(at + inner.old_from, at + inner.old_to, to + inner.new_from, to + inner.new_to)


def _bare(line: bytes) -> bytes:
    """A line without its line feed; one that lacks it is distinguished from one that has it."""
    return line[:-1] if line.endswith(b"\n") else line + b"\n\\"


def _placed(edits: list[Edit], lines: _Lines, masks: Masks) -> list[Edit]:
    """The edits without lines that are noise by their place, and without moves where order means nothing."""
    old, new = lines
    sides = outline_of(old, masks.outline), outline_of(new, masks.outline)
    gone = {
        at for edit in edits for at in range(edit.old_from, edit.old_to) if masks.noise_at(_place(sides[0], old, at))
    }
    came = {
        at for edit in edits for at in range(edit.new_from, edit.new_to) if masks.noise_at(_place(sides[1], new, at))
    }
    for move in find_moves(without(edits, gone, came), old, new, every=True):
        lists = [_lists(side, at) for side, at in zip(sides, (move.old_from, move.new_from), strict=True)]
        if any(one == other and masks.unordered(one) for one, other in zip(*lists, strict=True)):
            gone.update(range(move.old_from, move.old_from + move.count))
            came.update(range(move.new_from, move.new_from + move.count))
    return without(edits, gone, came)


def _lists(outline: Outline, at: int) -> tuple[bytes, bytes]:
    """Under what a line stands in an order: its headings; and these with the words that it shares with others."""
    path, words = outline.path(at), outline.words_above(at)
    return b" / ".join(path), b" / ".join((*path, *[words] * bool(words)))


def readings(content: bytes, masks: Masks) -> list[bytes | None]:
    """What each line of a text says, noise aside; None for a line that is noise, by itself or by its place."""
    lines = content.split(b"\n")
    outline = outline_of(lines, masks.outline)
    return [
        None if masks.has_places and masks.noise_at(_place(outline, lines, at)) else masks.essence(line)
        for at, line in enumerate(lines)
    ]


def _place(outline: Outline, lines: Sequence[bytes], at: int) -> bytes:
    """A line under its headings, as one text."""
    return b" / ".join((*outline.path(at), lines[at].strip()))


def _strings(old: bytes, new: bytes) -> list[Change]:
    """Readable texts that only one of two binary parts holds, when they are few enough to say something."""
    before, after = (dict.fromkeys(_READABLE.findall(content[:_STRINGS_IN])) for content in (old, new))
    gone = [text.decode() for text in before if text not in after]
    came = [text.decode() for text in after if text not in before]
    if len(gone) + len(came) > _MOST_STRINGS:
        return []
    removed = [Change(How.REMOVED, "text inside", text, "") for text in gone]
    added = [Change(How.ADDED, "text inside", "", text) for text in came]
    return removed + added


def _described(content: bytes) -> str:
    """A whole part in a few words."""
    whole = stands_for(content)
    if whole:
        return f"{size_text(whole[0])}, too large to be examined, SHA-256 {whole[1][:16]}"
    if is_binary(content):
        return f"{size_text(len(content))}, SHA-256 {hashlib.sha256(content).hexdigest()[:16]}"
    lines = content.count(b"\n") + (not content.endswith(b"\n") if content else 0)
    return f"{lines:,} line{'s' * (lines != 1)}"
