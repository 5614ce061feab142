"""Finding noise by itself: what differs in nearly every version of a source, by what its history shows."""

import re
from collections import defaultdict
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass, field

from historon.compare.changes import How
from historon.compare.exports import PartChange, comparable, compare_exports
from historon.compare.lines import split_lines
from historon.compare.masks import Masks
from historon.compare.outline import words_of
from historon.compare.words import paired
from historon.estate import Noise
from historon.store import Store, Version

__all__ = ["Proposal", "study"]

_OFTEN = 0.5  # of the steps between versions that a place must differ in to be taken for noise
_FEWEST = 3  # such steps
_MOST_LINES = 400  # of one step that are looked at: where more differ, something real happened
_REAL = "real"
_CONSTANT = 3  # letters that a rule has to name, so that it is about something
_FEW_LINES = 5  # of a part that a rule may always leave out
_MOST_HIDDEN = 0.05  # of all lines of a part
_DIGITS = re.compile(rb"\d+")


@dataclass(frozen=True)
class Proposal:
    """A rule, and why: it differed in `times` of `steps` from version to version, `alone` without anything real."""

    rule: Noise
    part: str
    times: int
    steps: int
    alone: int
    old: str
    new: str


@dataclass
class _Place:
    """One place that differed, over all steps: which words of its line ever did, and which lines there were."""

    part: str
    steps: set[int] = field(default_factory=set)
    differing: set[int] = field(default_factory=set)
    lines: list[list[bytes]] = field(default_factory=list)
    spaced: bool = False  # indented, or with more than one blank between words
    old: str = ""
    new: str = ""


_Key = tuple[str, str, bytes]


def study(store: Store, history: Sequence[Version], masks: Masks) -> list[Proposal]:
    """What to leave out of comparisons of a source, the surest first.

    `history` are its good versions, oldest first; what `masks` leave out already is not proposed again.
    """
    places: dict[_Key, _Place] = {}
    by_step: dict[int, set[_Key]] = defaultdict(set)
    before: dict[str, bytes] | None = None
    for step, version in enumerate(history):
        parts = {part.name: comparable(part, store) for part in store.parts(version.source, version.number)}
        for key, seen in _differing(before, parts, masks) if before is not None else ():
            by_step[step].add(key)
            place = places.setdefault(key, _Place(key[0]))
            place.steps.add(step)
            place.differing |= seen.differing
            place.lines += seen.lines
            place.spaced |= seen.spaced
            place.old, place.new = seen.old, seen.new
        before = parts
    steps = len(history) - 1
    least = max(_FEWEST, _OFTEN * steps)
    often = {key for key, place in places.items() if key[1] != _REAL and len(place.steps) >= least}
    real = {line for key, place in places.items() if key[1] == _REAL for (line,) in place.lines}
    found = {}
    for key in often:
        place = places[key]
        alone = sum(by_step[step] <= often for step in place.steps)
        rule = _rule(key, place)
        if key[1] == "pattern" and not _safe(rule, place, (before or {}).get(place.part, b""), real):
            continue
        found[rule] = Proposal(rule, place.part, len(place.steps), steps, alone, place.old, place.new)
    return sorted(found.values(), key=lambda one: (-one.times, one.rule))


def _safe(rule: Noise, place: _Place, latest: bytes, real: Iterable[bytes]) -> bool:
    """Whether a rule names something constant, is found where it was learnt, hides nothing real and little else."""
    constant = [words[0] for at, words in enumerate(zip(*place.lines, strict=True)) if at not in place.differing]
    if sum(byte.isalpha() for word in constant for byte in word.decode("utf-8", "replace")) < _CONSTANT:
        return False
    masks = Masks([rule], key=b"")
    lines = split_lines(latest)
    hidden = sum(masks.essence(line) != line for line in lines)
    if not 0 < hidden <= max(_FEW_LINES, len(lines) * _MOST_HIDDEN):
        return False
    return all((masks.essence(line) or b"").strip() for line in real if line.strip())


def _differing(old: dict[str, bytes], new: dict[str, bytes], masks: Masks) -> Iterator[tuple[_Key, _Place]]:
    for change in compare_exports(old, new, masks):
        if change.structured and not change.name.endswith((".csv", ".ini", ".tree")):
            yield from _document_places(change)
        elif change.edits and change.added + change.removed <= _MOST_LINES:
            yield from _line_places(change)
        else:
            yield _real(change, [
                line for edit in change.edits[:_MOST_LINES]
                for line in (*change.old[edit.old_from : edit.old_to], *change.new[edit.new_from : edit.new_to])
            ][:_MOST_LINES])  # fmt: skip


def _real(change: PartChange, lines: Iterable[bytes] = ()) -> tuple[_Key, _Place]:
    """Something that no rule would leave out, with the lines that it came or went with."""
    return (change.name, _REAL, b""), _Place(change.name, lines=[[line] for line in lines])


def _document_places(change: PartChange) -> Iterator[tuple[_Key, _Place]]:
    for one in change.changes:
        if one.how is not How.EDITED:
            yield _real(change)
        else:
            kind = "json" if not re.search(r"[@\[]", one.path) and change.new_content.lstrip()[:1] in b"{[" else "xpath"
            path = re.sub(r"/\d+(?: \([^)]*\))?", "/*", one.path) if kind == "json" else one.path
            yield (change.name, kind, path.encode()), _Place(change.name, old=one.old, new=one.new)


def _line_places(change: PartChange) -> Iterator[tuple[_Key, _Place]]:
    for edit in change.edits:
        old, new = change.old[edit.old_from : edit.old_to], change.new[edit.new_from : edit.new_to]
        texts = [[line.decode("utf-8", "replace") for line in side] for side in (old, new)]
        pairs = list(paired(*texts))
        gone, came = {one for one, _ in pairs}, {other for _, other in pairs}
        alone = [line for at, line in enumerate(old) if at not in gone]
        alone += [line for at, line in enumerate(new) if at not in came]
        if alone:
            yield _real(change, alone)
        for one, other in pairs:
            left, right = words_of(old[one]), words_of(new[other])
            if len(left) != len(right):
                yield _real(change, [old[one], new[other]])
                continue
            shape = [_DIGITS.sub(b"0", a) if _DIGITS.sub(b"0", a) == _DIGITS.sub(b"0", b) else b"*"
                     for a, b in zip(left, right, strict=True)]  # fmt: skip
            if all(word == b"*" for word in shape):
                yield _real(change, [old[one], new[other]])  # nothing to know the line by
                continue
            differing = {at for at, (a, b) in enumerate(zip(left, right, strict=True)) if a != b}
            spaced = old[one].rstrip() != b" ".join(left) or new[other].rstrip() != b" ".join(right)
            before, after = texts[0][one].strip(), texts[1][other].strip()
            place = _Place(change.name, set(), differing, [left, right], spaced, before, after)
            yield (change.name, "pattern", b" ".join(shape)), place


def _rule(key: _Key, place: _Place) -> Noise:
    if key[1] != "pattern":
        return Noise.parse(f"{key[1]}:{key[2].decode()}")
    pieces: list[str] = []
    for at, words in enumerate(zip(*place.lines, strict=True)):
        if at not in place.differing:
            pieces.append(re.escape(words[0].decode("utf-8", "replace")) if len(set(words)) == 1 else r"\S+")
        elif not pieces or pieces[-1] != "(.+)":
            pieces.append("(.+)" if _more_differ(place.differing, at) else _class_of(words))
    between = r"\s+" if place.spaced else " "
    return Noise.parse("^" + r"\s*" * place.spaced + between.join(pieces) + "$")


def _more_differ(differing: set[int], at: int) -> bool:
    return at + 1 in differing


def _class_of(words: Iterable[bytes]) -> str:
    return r"(\d+)" if all(word.isdigit() for word in words) else r"(\S+)"
