"""Where a text stands, or ever stood, and the life of a line."""

import re
from collections import defaultdict
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from functools import cached_property, lru_cache

from historon.compare.changes import Change, How, text_changes
from historon.compare.exports import Kind, PartChange, compare_exports
from historon.compare.lines import same_lines, split_lines
from historon.compare.masks import Masks
from historon.compare.outline import Outline
from historon.compare.signatures import may_hold, pieces_of_expression, pieces_of_text, searchable
from historon.store import LARGE, Store, Version

__all__ = ["Event", "Hit", "Life", "Query", "find", "find_ever", "too_large_to_find", "trace"]


@dataclass(frozen=True)
class Query:
    """What is looked for: a text, or a regular expression over lines; capitals and small letters are the same."""

    text: str
    expression: bool = False
    exact_case: bool = False

    @lru_cache  # noqa: B019 (a query is small, and there is one)
    def pattern(self) -> re.Pattern[bytes]:
        """The query over bytes. ValueError when the expression is wrong."""
        written = self.text if self.expression else re.escape(self.text)
        try:
            return re.compile(written.encode(), re.MULTILINE | (0 if self.exact_case else re.IGNORECASE))
        except re.error as exc:
            raise ValueError(f"not a regular expression: {exc}") from exc

    def may_stand(self, content: bytes) -> bool:
        """Whether it is worth while to look closely; plain texts are looked for faster than expressions."""
        return self.expression or self.text.encode().lower() in content.lower()

    def pieces(self) -> set[bytes]:
        """What a source must hold for the query to be found in it."""
        return pieces_of_expression(self.text) if self.expression else pieces_of_text(self.text)


@dataclass(frozen=True)
class Hit:
    """A line that was found: in which part, and of history when it came and went. `number` counts lines from 1.

    `came` is the first of the versions that have it without a break, `gone` the first without it; None where the line
    still stands, or where nobody asked.
    """

    source: str
    part: str
    number: int
    within: "_Shown" = field(repr=False, compare=False)
    came: Version | None = None
    gone: Version | None = None

    @property
    def path(self) -> str:
        """The headings above it, fit for eyes."""
        return _text(b" / ".join(self.within.outline.path(self.number - 1)))

    @property
    def line(self) -> str:
        """The line itself, fit for eyes."""
        return _text(self.within.lines[self.number - 1])


class _Shown:
    """A text made fit for eyes when somebody looks: of thousands that are found in, few are looked at."""

    def __init__(self, content: bytes, masks: Callable[[], Masks]) -> None:
        self._content, self._masks = content, masks

    @cached_property
    def lines(self) -> list[bytes]:
        return split_lines(self._masks().hide(self._content))

    @cached_property
    def outline(self) -> Outline:
        return Outline(self.lines, self._masks().outline)


@dataclass(frozen=True)
class Event:
    """What happened to a line in a version."""

    version: Version
    part: str
    change: Change


@dataclass
class Life:
    """One line through all versions, the newest event first; `stands` says whether it is there now."""

    part: str
    path: str
    line: str
    stands: bool
    events: list[Event] = field(default_factory=list)


_Key = tuple[str, str, str]  # part, path and line


def find(
    store: Store, versions: Iterable[tuple[str, int]], query: Query, masks: Callable[[str], Masks]
) -> Iterator[Hit]:
    """Where the query stands in these versions, by source and number. Sources that cannot hold it are not read."""
    pieces = query.pieces()
    kept = {source: (first, bits) for source, first, bits in store.signatures()} if pieces else {}
    for source, number in versions:
        if _may_stand(kept.get(source), number, pieces):
            for name, content in searchable(_small_parts(store, source, number)):
                yield from _hits(source, name, content, query, masks)


def find_ever(store: Store, history: Sequence[Version], query: Query, masks: Masks) -> list[Hit]:
    """Where the query stood in the history of one source, each stay of a line with its beginning and end.

    `history` are versions of the source, oldest first.
    """
    pieces = query.pieces()
    if not history or not _may_stand(store.signature(history[0].source) if pieces else None, history[0].number, pieces):
        return []
    alive: dict[_Key, Hit] = {}
    ended: list[Hit] = []
    seen: dict[tuple[str, bytes], list[Hit]] = {}
    for version in history:
        now: dict[_Key, Hit] = {}
        parts = {part.name: part for part in store.parts(version.source, version.number) if part.size <= LARGE}
        fresh: dict[tuple[str, bytes], list[Hit]] = {}
        for name, part in parts.items():
            key = (name, part.sha256)
            fresh[key] = seen[key] if key in seen else [
                hit
                for member, content in searchable({name: store.read(part)})
                for hit in _hits(version.source, member, content, query, lambda _: masks)
            ]  # fmt: skip
            now |= {(hit.part, hit.path, hit.line): hit for hit in fresh[key]}
        seen = fresh
        for before, after in _under_other_headings(alive, now):
            alive[after] = replace(now[after], came=alive.pop(before).came)
        ended += [_with(alive.pop(place), gone=version) for place in alive.keys() - now.keys()]
        for place in now.keys() - alive.keys():
            alive[place] = _with(now[place], came=version)
    return sorted([*ended, *alive.values()], key=lambda hit: (hit.came.number if hit.came else 0, hit.part, hit.number))


def too_large_to_find(store: Store, versions: Iterable[tuple[str, int]]) -> list[tuple[str, str]]:
    """The parts of these versions, by source and name, that are too large to be looked into."""
    return [
        (source, part.name) for source, number in versions for part in store.parts(source, number) if part.size > LARGE
    ]


def _with(hit: Hit, *, came: Version | None = None, gone: Version | None = None) -> Hit:
    return replace(hit, came=came or hit.came, gone=gone)


def _may_stand(kept: tuple[int, bytes] | None, number: int, pieces: set[bytes]) -> bool:
    """Whether a source has to be read: nobody kept its bits from this version on, or they do not rule it out."""
    return kept is None or kept[0] > number or may_hold(kept[1], pieces)


def _small_parts(store: Store, source: str, number: int) -> Mapping[str, bytes]:
    parts = store.parts(source, number)
    return {part.name: store.read(part) for part in parts if part.size <= LARGE}


def _hits(source: str, part: str, content: bytes, query: Query, masks: Callable[[str], Masks]) -> Iterator[Hit]:
    """The lines that the query is found in."""
    if not query.may_stand(content):
        return
    pattern = query.pattern()
    shown = _Shown(content, lambda: masks(source))
    at, number = 0, 1
    while match := pattern.search(content, at):
        start = content.rfind(b"\n", 0, match.start()) + 1
        end = content.find(b"\n", start)
        number += content.count(b"\n", at, start)
        # What is found may reach over the end of a line, and what is looked for is part of one.
        if pattern.search(content[start : end if end >= 0 else len(content)].rstrip(b"\r")):
            yield Hit(source, part, number, shown)
        if end < 0:
            return
        at, number = end + 1, number + 1


def _text(line: bytes) -> str:
    return line.decode("utf-8", "replace").strip()


def _under_other_headings(alive: Mapping[_Key, Hit], now: Mapping[_Key, Hit]) -> list[tuple[_Key, _Key]]:
    """Lines that stay where they were while a heading above them becomes another: they are the same lines."""
    gone = [place for place in alive if place not in now]
    came: defaultdict[tuple[str, str], list[_Key]] = defaultdict(list)
    for place in now:
        if place not in alive:
            came[place[0], place[2]].append(place)
    stayed: dict[str, dict[int, int]] = {}
    found = []
    for before in gone:
        part, _, line = before
        for after in came[part, line]:
            old, new = alive[before], now[after]
            if part not in stayed:
                stayed[part] = same_lines(old.within.lines, new.within.lines)
            if stayed[part].get(old.number) == new.number:
                came[part, line].remove(after)
                found.append((before, after))
                break
    return found


def trace(store: Store, history: Sequence[Version], query: Query, masks: Masks) -> list[Life]:
    """The lives of all lines that hold the query now or held it once; those that stand now come first.

    A line that was edited is the same line before; `history` are the good versions of one source, oldest first.
    """
    if not history:
        return []
    pattern = query.pattern()
    latest = history[-1]
    tracked: dict[_Key, Life] = {}
    for name, content in searchable(_small_parts(store, latest.source, latest.number)):
        for hit in _hits(latest.source, name, content, query, lambda _: masks):
            place = (hit.part, hit.path, hit.line)
            tracked.setdefault(place, Life(*place, stands=True))
    lives = list(tracked.values())
    later = _small_parts(store, latest.source, latest.number)
    for before, version in zip(history[-2::-1], history[:0:-1], strict=True):
        earlier = _small_parts(store, before.source, before.number)
        changed = compare_exports(earlier, later, masks)
        moved = [place for one in changed for place in _stayed(one, tracked)]
        lives_by_old = [(old, tracked.pop(new)) for old, new in moved]
        for part, change, old, new in _line_changes(changed, masks):
            life = tracked.pop(new, None) if new else None
            if life is None and old and pattern.search(old[2].encode()):
                life = Life(*old, stands=False)
                lives.append(life)
            if life is not None:
                life.events.append(Event(version, part, change))
                if old:
                    tracked[old] = life
        tracked |= lives_by_old
        later = earlier
    for (part, path, line), life in tracked.items():
        life.events.append(Event(history[0], part, Change(How.ADDED, path, "", line)))
    return lives


def _stayed(part: PartChange, tracked: Mapping[_Key, Life]) -> Iterator[tuple[_Key, _Key]]:
    """Where the lines that are tracked stood before, when only what is above them changed, or the name of their part.

    What it was before comes first, then what it is now.
    """
    lines = {line for name, _, line in tracked if name == part.name}
    if not lines or part.kind not in (Kind.EDITED, Kind.RENAMED):
        return
    sides = Outline(part.old, part.masks.outline), Outline(part.new, part.masks.outline)
    was = part.was or part.name
    for number, other in same_lines(part.old, part.new).items():
        line = _text(part.new[other - 1])
        if line in lines:
            old = (was, _text(b" / ".join(sides[0].path(number - 1))), line)
            new = (part.name, _text(b" / ".join(sides[1].path(other - 1))), line)
            if old != new and new in tracked:
                yield old, new


def _line_changes(changed: Sequence[PartChange], masks: Masks) -> list[tuple[str, Change, _Key | None, _Key | None]]:
    """Every line that changed, with where and what it was and is."""
    found = []
    for part in changed:
        sides = Outline(part.old, masks.outline), Outline(part.new, masks.outline)
        if part.kind is Kind.BINARY:
            continue
        for change in text_changes(part.edits, part.old, part.new, masks.outline, fold=False):
            places: list[_Key | None] = [None, None]
            names = (part.was or part.name, part.name)
            for side, (outline, lines, at) in enumerate(
                ((sides[0], part.old, change.old_at), (sides[1], part.new, change.new_at))
            ):
                if at is not None:
                    places[side] = names[side], _text(b" / ".join(outline.path(at - 1))), _text(lines[at - 1])
            found.append((part.name, change, places[0], places[1]))
    return found
