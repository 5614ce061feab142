"""What refers to what, learnt from the text alone: a name that heads a block and stands elsewhere as a value.

Nothing is known of the platform, so only what is certain is reported. A word is the use of a name where the name tells
itself apart from ordinary words, or where another name of the same kind is used in the same way.
"""

import re
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import replace
from itertools import islice

from historon.compare.changes import Change, How, counted
from historon.compare.outline import Outline

__all__ = ["with_references"]

_MOST_BYTES = 4 * 2**20  # of a text that is looked into
_MOST_CHANGES = 60  # of a text that are looked into
_MOST_USES = 200  # of a name; what stands more often is no name
_MOST_WORDS = 16  # of a line
_SHORTEST = 3  # letters of a name
_SIBLINGS = 3  # uses of the same form, by which it is learnt that what stands there is a name
_BEHIND = b" \t\r\n\"'`;,{}[]()<>="  # what may stand behind the name of a block
_TOKEN = re.compile(rb"[^\s\"'`;,{}\[\]()<>=]+")
_OWN_KIND = re.compile(rb"[-_.\d]|[a-z][A-Z]|^[A-Z]{2}")  # what tells a name apart from a word
_FREE_TEXT = re.compile(
    rb"\b(?:description|remark|comment|note|label|banner|alias|contact|location|password|secret)\b", re.IGNORECASE
)
# Values that configurations have built in, however they are written; and words that are none in small letters alone.
_BUILT_IN = frozenset(
    b"any all none default global static dynamic enable enabled disable disabled true false yes no on off auto always"
    b" never permit deny allow accept drop reject http https ssh tcp udp icmp ip ipv4 ipv6 root admin".split()
)
_ORDINARY = frozenset(
    b"local remote system input output forward in out inbound outbound inside outside server client host main primary"
    b" secondary".split()
)


def with_references(
    changes: Sequence[Change], outlines: tuple[Outline, Outline], contents: tuple[bytes, bytes]
) -> list[Change]:
    """The changes of a text, each with what uses the blocks that it touches, and behind them what leads nowhere now."""
    if len(changes) > _MOST_CHANGES:
        return list(changes)
    sides = _Text(outlines[0], contents[0]), _Text(outlines[1], contents[1])
    if any(side.size > _MOST_BYTES or side.outline.kind in ("flat", "prefixes") for side in sides):
        return list(changes)
    made = [replace(change, used_by=_used_by(change, *sides)) for change in changes]
    return [*made, *_lost(changes, *sides), *_undefined(changes, *sides)]


class _Text:
    """One of two texts: where names are defined in it, and where they are used."""

    def __init__(self, outline: Outline, content: bytes) -> None:
        self.lines = outline.shown
        self.outline = outline
        self._bare = outline.lines
        self._content = content
        self._known: dict[bytes, list[int]] = {}
        self._where: dict[bytes, list[int] | None] = {}

    @property
    def size(self) -> int:
        """Its bytes."""
        return len(self._content)

    def definitions(self, name: bytes) -> list[int]:
        """The lines that head a block by this name."""
        if name not in self._known:
            ends = (at for at in self._places(name) or () if self._bare[at].rstrip(_BEHIND).endswith(name))
            self._known[name] = [at for at in ends if name_of(self.lines[at]) == name and self.heads(at)]
        return self._known[name]

    def is_everywhere(self, name: bytes) -> bool:
        """Whether it stands there so often that nobody looked at all of it: then nothing is known of it."""
        return self._places(name) is None

    def uses(self, name: bytes) -> list[int]:
        """The lines elsewhere that have it as a value; none where it stands so often that it is no name."""
        own = set(self.definitions(name))
        return [
            at
            for at in self._places(name) or ()
            if not own & {at, *self._above(at)}
            and not self.outline.remarks(at)
            and not _FREE_TEXT.search(self.lines[at])
        ]

    def _above(self, at: int) -> Iterator[int]:
        while (at := self.outline.parent(at)) >= 0:
            yield at

    def _places(self, name: bytes) -> list[int] | None:
        """The lines that have it as a word; None where they are too many."""
        if name not in self._where:
            self._where[name] = self._looked_for(name)
        return self._where[name]

    def _looked_for(self, name: bytes) -> list[int] | None:
        found: dict[int, None] = {}
        at = self._content.find(name)
        looked = line = counted = 0
        while at >= 0:
            before = b"" if self._content.startswith(b"//", at - 2) else self._content[max(0, at - 1) : at]
            if not _continues(before) and not _continues(self._content[at + len(name) : at + len(name) + 1]):
                line += self._content.count(b"\n", counted, at)
                counted = at
                found[line] = None
            looked += 1
            if len(found) > _MOST_USES or looked > 10 * _MOST_USES:
                return None
            at = self._content.find(name, at + len(name))
        return [line for line in found if name in self.lines[line]]  # not where it is a secret

    def kind(self, at: int) -> bytes:
        """What kind of block a line heads: all but its name, behind what it stands under."""
        return b" / ".join((*self.outline.path(at), b" ".join(tokens(self.lines[at])[:-1])))

    def heads(self, at: int) -> bool:
        """Whether something stands under a line."""
        below = next((line for line in range(at + 1, min(at + 5, len(self.lines))) if self.outline.tells(line)), None)
        return below is not None and self.outline.parent(below) == at

    def lines_like(self, words: Sequence[bytes], count: int) -> Iterator[int]:
        """Lines of so many words that begin with these, as far as they are not too many."""
        begin = words[0]
        at = self._content.find(begin)
        looked = line = counted = 0
        while at >= 0 and looked < 10 * _MOST_USES:
            line += self._content.count(b"\n", counted, at)
            counted = at
            if self._has_form(self._bare[line], words, count) and self._has_form(self.lines[line], words, count):
                yield line
            looked += 1
            following = self._content.find(b"\n", at) + 1
            at = self._content.find(begin, following) if following else -1

    @staticmethod
    def _has_form(line: bytes, words: Sequence[bytes], count: int) -> bool:
        found = tokens(line)
        return len(found) == count and found[: len(words)] == list(words)


def _continues(letter: bytes) -> bool:
    return letter.isalnum() or letter in (b"_", b"-", b".", b"/", b"\\")


def tokens(line: bytes) -> list[bytes]:
    """The words of a line without what only parts them; of a URL what is behind its scheme."""
    return [token.rpartition(b"//")[2] or token for token in _TOKEN.findall(line)]


def name_of(line: bytes) -> bytes:
    """By what a block would be known that this line heads: its last word, if it has two."""
    words = tokens(line)
    return words[-1] if len(words) > 1 else b""


def _is_name(name: bytes) -> bool:
    letters = sum(byte.isalpha() for byte in name.decode("utf-8", "replace"))
    return len(name) >= _SHORTEST and letters > 0 and name.lower() not in _BUILT_IN and name not in _ORDINARY


def _form(line: bytes, name: bytes) -> tuple[bytes, ...]:
    """How a line uses a name: the words before it."""
    words = tokens(line)
    return tuple(words[: words.index(name)]) if name in words else ()


def _certain_uses(name: bytes, text: _Text) -> list[int]:
    """Where a name is used for certain."""
    if not _is_name(name) or not text.definitions(name):
        return []
    uses = [at for at in text.uses(name) if _form(text.lines[at], name)]
    if _OWN_KIND.search(name):
        return uses
    return [at for at in uses if _others_are_used_so(name, at, text)]


def _others_are_used_so(name: bytes, at: int, text: _Text) -> bool:
    """Whether another block of the same kind is used in the same form."""
    kinds = {text.kind(one) for one in text.definitions(name)}
    form = _form(text.lines[at], name)
    for line in text.lines_like(form, len(tokens(text.lines[at]))):
        other = tokens(text.lines[line])[len(form)]
        if other != name and any(text.kind(one) in kinds for one in text.definitions(other)):
            return True
    return False


def _used_by(change: Change, old: _Text, new: _Text) -> tuple[str, ...]:
    """The places that use the block that a change touches, or that came with it."""
    at, text = (change.new_at, new) if change.new_at is not None else (change.old_at, old)
    if at is None or change.how is How.MOVED or not 0 < at <= len(text.lines):
        return ()
    touched = at - 1 if text.heads(at - 1) else text.outline.parent(at - 1)
    name = name_of(text.lines[touched]) if touched >= 0 else b""
    return tuple(dict.fromkeys(_place(new, use) for use in _certain_uses(name, new)))


def _place(text: _Text, at: int) -> str:
    headings = [heading.decode("utf-8", "replace") for heading in text.outline.path(at)]
    return " / ".join([*headings, text.lines[at].decode("utf-8", "replace").strip(" \t\r\n{};,")])


def _lost(changes: Iterable[Change], old: _Text, new: _Text) -> Iterator[Change]:
    """Names of blocks that are no longer defined, and still used where they were used."""
    told: set[bytes] = set()
    for change in changes:
        if change.old_at is None or not 0 < change.old_at <= len(old.lines):
            continue
        for at in _headings_within(change, old):
            name = name_of(old.lines[at])
            if name in told or not old.heads(at) or new.is_everywhere(name) or new.definitions(name):
                continue
            told.add(name)
            before = {old.lines[use].strip() for use in _certain_uses(name, old)}
            left = [use for use in new.uses(name) if new.lines[use].strip() in before]
            if left:
                heading = old.lines[at].decode("utf-8", "replace").strip(" \t\r\n{")
                places = counted([*dict.fromkeys(_place(new, use) for use in left)])
                yield _told(heading, f"no longer defined, but still used by {places}", left[0])


def _headings_within(change: Change, old: _Text) -> Iterator[int]:
    """The lines that may have headed a block among those that a change took away."""
    assert change.old_at is not None  # noqa: S101 (asked before)
    first = change.old_at - 1
    last = first + (change.more if change.how is How.REMOVED else 0)
    for at in range(first, min(last + 1, first + _MOST_USES, len(old.lines))):
        if name_of(old.lines[at]):
            yield at


def _undefined(changes: Iterable[Change], old: _Text, new: _Text) -> Iterator[Change]:
    """What came as a use of a name that is defined nowhere, where all others of its form are defined."""
    told: set[bytes] = set()
    for change in changes:
        if change.how not in (How.ADDED, How.EDITED) or change.new_at is None:
            continue
        for at in range(
            change.new_at - 1, min(change.new_at + change.more, len(new.lines), change.new_at + _MOST_USES)
        ):
            if _FREE_TEXT.search(new.lines[at]):
                continue
            words = tokens(new.lines[at])
            for place in range(1, min(len(words), _MOST_WORDS)):
                name = words[place]
                if name in told or not _is_name(name) or new.is_everywhere(name) or old.is_everywhere(name):
                    continue
                if new.definitions(name) or old.definitions(name):
                    continue
                kind = _kind_that_is_used(words, place, old)
                if kind:
                    told.add(name)
                    words_of_kind = kind.decode("utf-8", "replace")
                    yield _told(
                        _place(new, at), f"{name.decode('utf-8', 'replace')} is not defined as {words_of_kind}", at
                    )


def _kind_that_is_used(words: Sequence[bytes], place: int, old: _Text) -> bytes | None:
    """The kind of block that all other lines of this form use here, if it is one, learnt from the text before."""
    names: set[bytes] = set()
    common: set[bytes] = set()
    count = 0
    for line in islice(old.lines_like(words[:place], len(words)), _MOST_USES):
        name = tokens(old.lines[line])[place]
        kinds = {old.kind(at) for at in old.definitions(name)} if _is_name(name) else set()
        common = common & kinds if count else kinds
        if not common:
            return None
        names.add(name)
        count += 1
    return min(common) if len(names) >= 2 and count >= _SIBLINGS else None


def _told(path: str, words: str, at: int) -> Change:
    return Change(How.UNRESOLVED, path, new=words, new_at=at + 1)
