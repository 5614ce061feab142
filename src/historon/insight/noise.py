"""Finding noise by itself: what differs in nearly every version of a source, by what its history shows.

A rule is proposed when what it leaves out differed in most steps from version to version, when it names something
constant, and when it does leave that out. It is replayed over all of the history: what else it would have hidden is
said with it.
"""

import re
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from functools import cache, partial

from historon.compare import How, PartChange, compare_exports, paired
from historon.compare.moves import find_moves, without
from historon.compare.outline import Outline, outline_of, words_of
from historon.estate import Noise, Pattern
from historon.store import Store, TreeRecord, Version
from historon.versions import Masks, contents_of, split_lines

__all__ = ["Hidden", "Proposal", "study"]

_OFTEN = 0.5  # of the steps between versions that a place must differ in to be taken for noise
_FEWEST = 3  # such steps
_MOST_LINES = 400  # of one step that are looked at: where more differ, something real happened
_CONSTANT = 3  # letters that a rule has to name, so that it is about something
_FEW_LINES = 5  # of a part that a rule may always leave out
_MOST_HIDDEN = 0.05  # of all lines of a part
_DIGITS = re.compile(rb"\d+")
_SECRET = b"[secret "  # how the mark of a hidden secret begins
# Lines of certificates and keys as text: base64 (RFC 4648), or groups of hexadecimal digits.
_BASE64 = r"(?:[A-Za-z0-9+/]{24,}=*|[A-Za-z0-9+/]*[0-9+/=][A-Za-z0-9+/=]*)"
_HEXADECIMAL = r"(?:[0-9A-Fa-f]{4,}\s*)+"
_BLOBS = {form: re.compile(rf"\s*{form}\s*$".encode()) for form in (_BASE64, _HEXADECIMAL)}
_FRAME = re.compile(rb"\s*-----(?:BEGIN|END) [A-Z0-9 ]+-----\s*$")  # RFC 7468
_BLOB = 32  # characters of the longest line, at least
_XML_ENTRY = re.compile(r"/[^/\[\]]+(?:\[[^\[\]]*\])?$")
_JSON_ENTRY = re.compile(r"/\d+(?: \([^)]*\))?$")


@dataclass(frozen=True)
class Hidden:
    """Something real that a rule would have hidden in this version: what went or came, fit for eyes."""

    version: int
    old: str
    new: str


@dataclass(frozen=True)
class Proposal:
    """A rule for the procedure's `setting` (`noise` or `unordered`), and why.

    It differed in the versions `seen_in` against the ones before, of `steps` such steps, `alone` without anything real.
    `hides` is what the rule would have hidden beside that.
    """

    setting: str
    rule: str
    part: str
    seen_in: Sequence[int]
    steps: int
    alone: int
    old: str
    new: str
    hides: Sequence[Hidden] = ()

    def added_to(self, masks: Masks) -> Masks:
        """The masks with this rule besides."""
        return _Rule(self.setting, self.rule).added_to(masks)


# What a place is known by: its part; whether it is a `line` of a shape, lines under a heading (`blob`), an `order`, an
# `xpath`, a `json` pointer, or something `real` that no rule is about; and the shape, heading or place itself.
_Key = tuple[str, str, bytes]
_REAL = "real"


@dataclass(frozen=True)
class _Seen:
    """Something that differed in one step: what went and came, as it is and fit for eyes, and where in the outline."""

    key: _Key
    old: bytes | None = None
    new: bytes | None = None
    path: bytes = b""
    told: tuple[str, str] = ("", "")
    words: tuple[list[bytes], list[bytes]] | None = None  # of a line that is known by its shape
    spaced: bool = False  # indented, or with more than one blank between words


@dataclass
class _Place:
    """One place that differed, over all steps: which words of its line ever did, and which lines there were."""

    part: str
    steps: set[int] = field(default_factory=set)
    differing: set[int] = field(default_factory=set)
    lines: list[list[bytes]] = field(default_factory=list)
    spaced: bool = False
    told: tuple[str, str] = ("", "")

    def see(self, step: int, seen: _Seen) -> None:
        """Take in what was seen there in one step."""
        self.steps.add(step)
        self.told = seen.told
        self.spaced |= seen.spaced
        if seen.words:
            self.lines += seen.words
            self.differing |= {at for at, (a, b) in enumerate(zip(*seen.words, strict=True)) if a != b}


def study(store: Store, history: Sequence[Version], masks: Masks) -> list[Proposal]:
    """What to leave out of comparisons of a source, the surest first.

    `history` are its good versions, oldest first; what `masks` leave out already is not proposed again.
    """
    steps: list[list[_Seen]] = []
    before: dict[str, bytes] | None = None
    for version in history:
        parts = contents_of(store, version.source, version.number)
        if before is not None:
            steps.append(list(_differing(before, parts, masks)))
        before = parts
    places: dict[_Key, _Place] = {}
    for step, found in enumerate(steps):
        for seen in found:
            places.setdefault(seen.key, _Place(seen.key[0])).see(step, seen)
    tells_less = cache(partial(_tells_less, store, history, masks))
    least = max(_FEWEST, _OFTEN * len(steps))
    often = {key for key, place in places.items() if key[1] != _REAL and len(place.steps) >= least}
    made = {}
    for key in often:
        place = places[key]
        rule = _rule(key, place)
        if rule and _names_something(key, place) and _hides_little(rule, key, place, before or {}):
            last = max(place.steps)
            if _leaves_out(rule, key, store, history[last : last + 2], masks):
                alone = sum(all(seen.key in often for seen in steps[step]) for step in place.steps)
                seen_in = [history[step + 1].number for step in sorted(place.steps)]
                hides = [
                    Hidden(history[step + 1].number, *seen.told)
                    for step, seen in _would_hide(rule, key, steps, often)
                    if seen.key[1] != "order" or key[1] == "order" or tells_less(rule, step)
                ]
                made[rule.setting, rule.text] = Proposal(
                    rule.setting, rule.text, place.part, seen_in, len(steps), alone, *place.told, hides
                )
    return sorted(made.values(), key=lambda one: (bool(one.hides), -len(one.seen_in), one.rule))


# ---- what differs in a step ------------------------------------------------------------------------------------------


def _differing(old: dict[str, bytes], new: dict[str, bytes], masks: Masks) -> Iterator[_Seen]:
    for change in compare_exports(old, new, masks):
        if change.structured and not (
            change.name.endswith((".csv", ".ini")) or isinstance(change.new_content, TreeRecord)
        ):
            yield from _in_document(change)
        elif change.edits and change.added + change.removed <= _MOST_LINES:
            yield from _in_lines(change)
        else:
            yield _Seen((change.name, _REAL, b""), told=("", f"{change.name} has too many differences to examine"))


def _in_document(change: PartChange) -> Iterator[_Seen]:
    json = change.new_content.lstrip()[:1] in (b"{", b"[")
    for one in change.changes:
        told, kind = (one.old, one.new), "json" if json else "xpath"
        if one.how is How.MOVED:
            container = (_JSON_ENTRY if json else _XML_ENTRY).sub("", one.path)
            yield _Seen((change.name, "order", container.encode()), path=one.path.encode(), told=told)
        elif one.how is not How.EDITED:
            yield _Seen((change.name, _REAL, b""), path=one.path.encode(), told=told)
        else:
            place = re.sub(r"/\d+(?: \([^)]*\))?", "/*", one.path) if json else one.path
            yield _Seen((change.name, kind, place.encode()), path=one.path.encode(), told=told)


def _in_lines(change: PartChange) -> Iterator[_Seen]:
    raw = change.old.bare, change.new.bare
    kind = change.masks.outline
    sides = outline_of(change.old.bare, kind, change.old), outline_of(change.new.bare, kind, change.new)
    paths = [partial(_path, side) for side in sides]
    edits = change.edits
    gone, came = set[int](), set[int]()
    for move in find_moves(edits, change.old, change.new, every=True):
        for old, new in zip(
            range(move.old_from, move.old_from + move.count), range(move.new_from, 10**9), strict=False
        ):
            path = paths[0](old)
            if path == paths[1](new) and sides[0].tells(old):
                gone.add(old)
                came.add(new)
                told = f"{_text(change.old[old])} (line {old + 1})", f"line {new + 1}"
                yield _Seen((change.name, "order", path), raw[0][old], raw[1][new], path, told)
    for edit in without(edits, gone, came):
        old_at, new_at = range(edit.old_from, edit.old_to), range(edit.new_from, edit.new_to)
        blob = _blob(change, sides, old_at, new_at)
        if blob:
            yield blob
            continue
        pairs = list(paired([_text(change.old[at]) for at in old_at], [_text(change.new[at]) for at in new_at]))
        left = {one for one, _ in pairs}
        right = {other for _, other in pairs}
        for at in (at for index, at in enumerate(old_at) if index not in left):
            yield _Seen((change.name, _REAL, b""), raw[0][at], None, paths[0](at), (_text(change.old[at]), ""))
        for at in (at for index, at in enumerate(new_at) if index not in right):
            yield _Seen((change.name, _REAL, b""), None, raw[1][at], paths[1](at), ("", _text(change.new[at])))
        for one, other in ((old_at[one], new_at[other]) for one, other in pairs):
            seen = _line(change, change.old[one], change.new[other])
            yield replace(seen, old=raw[0][one], new=raw[1][other], path=paths[1](other))


def _path(outline: Outline, at: int) -> bytes:
    return b" / ".join(outline.path(at))


def _text(line: bytes) -> str:
    return line.decode("utf-8", "replace").strip()


def _blob(change: PartChange, sides: tuple[Outline, Outline], old_at: range, new_at: range) -> _Seen | None:
    """A certificate or key that was replaced by another one under the same heading."""
    both = [change.old[at] for at in old_at] + [change.new[at] for at in new_at]
    lines = [line for line in both if not _FRAME.match(line)]
    form = next((form for form, blob in _BLOBS.items() if lines and all(map(blob.match, lines))), None)
    paths = {_path(side, at) for side, span in zip(sides, (old_at, new_at), strict=True) for at in span}
    if form is None or len(paths) != 1 or not old_at or not new_at or max(map(len, lines)) < _BLOB:
        return None
    (path,) = paths
    told = f"{len(old_at)} lines under {_text(path)}", f"{len(new_at)} lines"
    if path:
        return _Seen((change.name, "blob", path + b"\0" + form.encode()), path=path, told=told)
    return None


def _line(change: PartChange, old: bytes, new: bytes) -> _Seen:
    """A line that became another one: known by its shape, which is its words without those that differ and numbers."""
    told = _text(old), _text(new)
    left, right = words_of(old), words_of(new)
    if len(left) != len(right):
        return _Seen((change.name, _REAL, b""), told=told)
    shape = []
    for one, other in zip(left, right, strict=True):
        digitless = _DIGITS.sub(b"0", one)
        shape.append(digitless if digitless == _DIGITS.sub(b"0", other) else b"*")
    if all(word == b"*" for word in shape):
        return _Seen((change.name, _REAL, b""), told=told)  # nothing to know the line by
    spaced = old.rstrip() != b" ".join(left) or new.rstrip() != b" ".join(right)
    return _Seen((change.name, "line", b" ".join(shape)), told=told, words=(left, right), spaced=spaced)


# ---- rules -----------------------------------------------------------------------------------------------------------


@dataclass(frozen=True)
class _Rule:
    setting: str
    text: str

    def added_to(self, masks: Masks) -> Masks:
        """The masks with this rule besides."""
        if self.setting == "unordered":
            return masks.adding(unordered=[Pattern.parse(self.text)])
        return masks.adding(noise=[Noise.parse(self.text)])


def _rule(key: _Key, place: _Place) -> _Rule | None:
    _, kind, what = key
    text = what.decode("utf-8", "replace")
    if kind == "order":
        return _Rule("unordered", f"^{re.escape(text)}$")
    if kind == "blob":
        path, _, form = text.partition("\0")
        return _Rule("noise", f"path:^{re.escape(path)} / {form}$")
    if kind == "line":
        return _Rule("noise", _expression(place))
    try:
        return _Rule("noise", Noise.parse(f"{kind}:{text}"))
    except ValueError:
        return None  # a value in the place that cannot be written as one


def _expression(place: _Place) -> str:
    pieces: list[str] = []
    for at, words in enumerate(zip(*place.lines, strict=True)):
        if at not in place.differing:
            known = len(set(words)) == 1 and not words[0].startswith(_SECRET)
            pieces.append(re.escape(words[0].decode("utf-8", "replace")) if known else r"\S+")
        elif not pieces or pieces[-1] != "(.+)":
            pieces.append("(.+)" if at + 1 in place.differing else _class_of(words))
    between = r"\s+" if place.spaced else " "
    return "^" + r"\s*" * place.spaced + between.join(pieces) + "$"


def _class_of(words: Iterable[bytes]) -> str:
    if all(word.isdigit() for word in words):
        return r"(\d+)"
    return r"(\S+)"


def _names_something(key: _Key, place: _Place) -> bool:
    """Whether a rule for lines names something constant, so that it is about something."""
    if key[1] != "line":
        return True
    constant = [words[0] for at, words in enumerate(zip(*place.lines, strict=True)) if at not in place.differing]
    told = [word for word in constant if not word.startswith(_SECRET)]
    letters: int = sum(byte.isalpha() for word in told for byte in word.decode("utf-8", "replace"))
    return letters >= _CONSTANT


def _hides_little(rule: _Rule, key: _Key, place: _Place, latest: Mapping[str, bytes]) -> bool:
    """Whether a rule for lines leaves most lines of the part as they are."""
    if key[1] != "line":
        return True
    masks = rule.added_to(Masks(key=b""))
    lines = split_lines(latest.get(place.part, b""))
    hidden = sum(masks.essence(line) != line for line in lines)
    return hidden <= max(_FEW_LINES, len(lines) * _MOST_HIDDEN)


def _leaves_out(rule: _Rule, key: _Key, store: Store, versions: Sequence[Version], masks: Masks) -> bool:
    """Whether a rule does leave out what it was learnt from, in the last of the steps in which that differed."""
    old, new = (contents_of(store, version.source, version.number) for version in versions)
    return all(seen.key != key for seen in _differing(old, new, rule.added_to(masks)))


def _would_hide(
    rule: _Rule, key: _Key, steps: Sequence[Sequence[_Seen]], often: set[_Key]
) -> Iterator[tuple[int, _Seen]]:
    """What a rule would have hidden in all of history, beside what differs often: the step, and what was seen in it."""
    masks = rule.added_to(Masks(key=b""))
    for step, found in enumerate(steps):
        for seen in found:
            if seen.key not in often and _hides(masks, key, seen):
                yield step, seen


def _lines_that_differ(old: Mapping[str, bytes], new: Mapping[str, bytes], masks: Masks) -> int:
    return sum(change.added + change.removed for change in compare_exports(old, new, masks))


def _tells_less(store: Store, history: Sequence[Version], masks: Masks, rule: _Rule, step: int) -> bool:
    """Whether less is reported of a step with a rule in force.

    A rule that makes a moved line equal to the lines that it passed hides the move, and does not hide it otherwise:
    comparing once more tells.
    """
    old, new = (contents_of(store, version.source, version.number) for version in history[step : step + 2])
    told = _lines_that_differ(old, new, masks)
    left = _lines_that_differ(old, new, rule.added_to(masks))
    return left < told


def _hides(masks: Masks, key: _Key, seen: _Seen) -> bool:
    """Whether masks with one rule, which is about this place, hide something that was seen."""
    part, kind, what = key
    sides = [line for line in (seen.old, seen.new) if line is not None]
    if kind == "order":
        return seen.key[1] == "order" and masks.unordered(seen.key[2])
    if kind == "blob":
        return bool(sides) and all(masks.noise_at(seen.path + b" / " + line.strip()) for line in sides)
    if kind in ("xpath", "json"):
        under = re.sub(rb"/\d+(?: \([^)]*\))?", b"/*", seen.path) if kind == "json" else seen.path
        return seen.key[0] == part and (under + b"/").startswith(what + b"/")
    essences = {(masks.essence(line) or b"").strip() for line in sides}
    return len(essences) == 1 and (len(sides) == 2 or essences == {b""})
