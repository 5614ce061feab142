"""Where a text stands, or ever was, and the life of a line."""

import re
from collections import defaultdict
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from functools import cached_property, lru_cache

from historon.base.bounds import TooHeavyError, begin_on
from historon.compare import Change, How, Kind, Outline, PartChange, compare_exports, outline_of, text_changes
from historon.compare.lines import same_lines
from historon.compare.opening import opened
from historon.insight.search_index import may_hold, may_hold_closed, pieces_of_expression, pieces_of_text
from historon.store import LARGE, Store, StoredPart, Version
from historon.versions import Masks, comparable, contents_of, split_lines

__all__ = ["Event", "Hit", "Life", "Query", "Search", "Traced", "find", "find_ever", "trace"]


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
        if self.expression:
            return pieces_of_expression(self.text)
        return pieces_of_text(self.text)


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
        return outline_of(self.lines, self._masks().outline)


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
_Tracked = dict[_Key, list[Life]]  # lines that read the same may stand in one place


@dataclass
class Search:
    """What was found, and what could not be looked into: by source and name, with the reason."""

    hits: list[Hit] = field(default_factory=list)
    closed: dict[tuple[str, str], str] = field(default_factory=dict)


def find(store: Store, versions: Iterable[tuple[str, int]], query: Query, masks: Callable[[str], Masks]) -> Search:
    """Where the query stands in these versions, by source and number. Sources that cannot hold it are not read."""
    pieces = query.pieces()
    kept = {source: (first, bits) for source, first, bits in store.signatures()} if pieces else {}
    found = Search()
    for source, number in versions:
        parts = store.parts(source, number)
        if _may_stand(kept.get(source), number, pieces) or any(part.size > LARGE for part in parts):
            for part in parts:
                _look(store, source, number, part, query, masks, found)
    return found


def _look(
    store: Store, source: str, number: int, part: StoredPart, query: Query, masks: Callable[[str], Masks], found: Search
) -> None:
    """Look into one part."""
    try:
        begin_on(f"{source}@{number}")
    except TooHeavyError as exc:
        found.closed[source, part.name] = exc.why
        return
    for one in opened({part.name: comparable(part, store)}):
        found.closed |= {(source, name): why for name, why in one.closed.items()}
        found.hits += [hit for name, text in one.texts.items() for hit in _hits(source, name, text, query, masks)]


def find_ever(store: Store, history: Sequence[Version], query: Query, masks: Masks) -> Search:
    """Where the query was in the history of one source, each stay of a line with its beginning and end.

    `history` are versions of the source, oldest first.
    """
    if not history or not _worth_reading(store, history, query.pieces()):
        return Search()
    alive: dict[_Key, Hit] = {}
    ended: list[Hit] = []
    closed: dict[tuple[str, str], str] = {}
    seen: dict[tuple[str, bytes], Search] = {}
    for version in history:
        now: dict[_Key, Hit] = {}
        fresh: dict[tuple[str, bytes], Search] = {}
        for part in store.parts(version.source, version.number):
            key = (part.name, part.sha256)
            if key not in seen:
                into = seen.setdefault(key, Search())
                _look(store, version.source, version.number, part, query, lambda _: masks, into)
            fresh[key] = seen[key]
            closed |= seen[key].closed
            now |= {(hit.part, hit.path, hit.line): hit for hit in seen[key].hits}
        seen = fresh
        for before, after in _under_other_headings(alive, now):
            alive[after] = replace(now[after], came=alive.pop(before).came)
        ended += [_with(alive.pop(place), gone=version) for place in alive.keys() - now.keys()]
        for place in now.keys() - alive.keys():
            alive[place] = _with(now[place], came=version)
    stays = [*ended, *alive.values()]
    stays.sort(key=lambda hit: (hit.came.number if hit.came else 0, hit.part, hit.number))
    return Search(stays, closed)


def _worth_reading(store: Store, history: Sequence[Version], pieces: set[bytes]) -> bool:
    """Whether the query may stand somewhere in a history, or something in it cannot be looked into."""
    source = history[0].source
    if not pieces or _may_stand(store.signature(source), history[0].number, pieces):
        return True
    return any(part.size > LARGE for one in history for part in store.parts(source, one.number))


def _with(hit: Hit, *, came: Version | None = None, gone: Version | None = None) -> Hit:
    return replace(hit, came=came or hit.came, gone=gone)


def _may_stand(kept: tuple[int, bytes] | None, number: int, pieces: set[bytes]) -> bool:
    """Whether a source has to be read: nobody kept its bits from this version on, or they do not rule it out.

    So has one with a part that could not be looked into, so that this is said.
    """
    return kept is None or kept[0] > number or may_hold(kept[1], pieces) or may_hold_closed(kept[1])


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


@dataclass
class Traced:
    """The lives that were found, and the parts that could not be looked into at all times, with the reason."""

    lives: list[Life] = field(default_factory=list)
    closed: dict[str, str] = field(default_factory=dict)


def trace(store: Store, history: Sequence[Version], query: Query, masks: Masks) -> Traced:
    """The lives of all lines that hold the query now or held it once; those that stand now come first.

    A line that was edited is the same line before. Of lines that read the same and stand in one place, each has a life
    of its own; which of them went is not distinguished. `history` are the good versions of one source, oldest first.
    """
    if not history:
        return Traced()
    pattern = query.pattern()
    latest = history[-1]
    tracked: _Tracked = {}
    later = contents_of(store, latest.source, latest.number)
    closed: dict[str, str] = {}
    for one in opened(later):
        closed |= one.closed
        for name, text in one.texts.items():
            for hit in _hits(latest.source, name, text, query, lambda _: masks):
                place = (hit.part, hit.path, hit.line)
                tracked.setdefault(place, []).append(Life(*place, stands=True))
    lives = [life for twins in tracked.values() for life in twins]
    for before, version in zip(history[-2::-1], history[:0:-1], strict=True):
        earlier = contents_of(store, before.source, before.number)
        for one in opened({name: content for name, content in earlier.items() if later.get(name) != content}):
            closed |= one.closed
        lives += _step_back(tracked, compare_exports(earlier, later, masks), version, pattern, masks)
        later = earlier
    for (part, path, line), twins in tracked.items():
        for life in twins:
            life.events.append(Event(history[0], part, Change(How.ADDED, path, "", line)))
    return Traced(lives, closed)


def _step_back(
    tracked: _Tracked, changed: Sequence[PartChange], version: Version, pattern: re.Pattern[bytes], masks: Masks
) -> list[Life]:
    """Follow the lines that are tracked to where they were before this version; returns those that went with it."""
    lives = []
    moved = [places for one in changed for places in _stayed(one, tracked)]
    kept = []
    for there, here in moved:
        stayed = _taken(tracked, here)
        if stayed:
            kept.append((there, stayed))
    for part, change, old, new in _line_changes(changed, masks):
        life = _taken(tracked, new) if new else None
        if life is None and old and pattern.search(old[2].encode()):
            life = Life(*old, stands=False)
            lives.append(life)
        if life is not None:
            life.events.append(Event(version, part, change))
            if old:
                tracked.setdefault(old, []).append(life)
    for place, life in kept:
        tracked.setdefault(place, []).append(life)
    return lives


def _taken(tracked: _Tracked, place: _Key) -> Life | None:
    """One of the lines that stand there; it stands there no longer."""
    twins = tracked.get(place)
    if not twins:
        return None
    life = twins.pop()
    if not twins:
        del tracked[place]
    return life


def _stayed(part: PartChange, tracked: _Tracked) -> Iterator[tuple[_Key, _Key]]:
    """Where the lines that are tracked was before, when only what is above them changed, or the name of their part.

    What it was before comes first, then what it is now.
    """
    lines = {line for name, _, line in tracked if name == part.name}
    if not lines or part.kind not in (Kind.EDITED, Kind.RENAMED):
        return
    sides = outline_of([*part.old], part.masks.outline), outline_of([*part.new], part.masks.outline)
    was = part.was or part.name
    for number, other in same_lines([*part.old], [*part.new]).items():
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
        if part.kind is Kind.BINARY:
            continue
        sides = outline_of([*part.old], masks.outline), outline_of([*part.new], masks.outline)
        for change in text_changes(part.edits, part.outlines, fold=False):
            places: list[_Key | None] = [None, None]
            names = (part.was or part.name, part.name)
            for side, (outline, lines, at) in enumerate(
                ((sides[0], part.old, change.old_at), (sides[1], part.new, change.new_at))
            ):
                if at is not None:
                    places[side] = names[side], _text(b" / ".join(outline.path(at - 1))), _text(lines[at - 1])
            found.append((part.name, change, places[0], places[1]))
    return found
