"""Where a text stands, or ever stood, and the life of a line."""

import re
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from functools import cached_property, lru_cache

from historon.compare.changes import Change, How, text_changes
from historon.compare.exports import Kind, compare_exports
from historon.compare.lines import split_lines
from historon.compare.masks import Masks
from historon.compare.outline import Outline
from historon.compare.signatures import may_hold, pieces_of_expression, pieces_of_text, searchable
from historon.store import LARGE, Store, Version

__all__ = ["Event", "Hit", "Life", "Query", "find", "find_ever", "trace"]


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
    alive: dict[tuple[str, str, str], Hit] = {}
    ended: list[Hit] = []
    seen: dict[tuple[str, bytes], list[Hit]] = {}
    for version in history:
        now: dict[tuple[str, str, str], Hit] = {}
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
        ended += [_with(alive.pop(place), gone=version) for place in alive.keys() - now.keys()]
        for place in now.keys() - alive.keys():
            alive[place] = _with(now[place], came=version)
    return sorted([*ended, *alive.values()], key=lambda hit: (hit.came.number if hit.came else 0, hit.part, hit.number))


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


def trace(store: Store, history: Sequence[Version], query: Query, masks: Masks) -> list[Life]:
    """The lives of all lines that hold the query now or held it once; those that stand now come first.

    A line that was edited is the same line before; `history` are the good versions of one source, oldest first.
    """
    if not history:
        return []
    pattern = query.pattern()
    latest = history[-1]
    tracked: dict[tuple[str, str, str], Life] = {}
    for name, content in searchable(_small_parts(store, latest.source, latest.number)):
        for hit in _hits(latest.source, name, content, query, lambda _: masks):
            place = (hit.part, hit.path, hit.line)
            tracked.setdefault(place, Life(*place, stands=True))
    lives = list(tracked.values())
    later = _small_parts(store, latest.source, latest.number)
    for before, version in zip(history[-2::-1], history[:0:-1], strict=True):
        earlier = _small_parts(store, before.source, before.number)
        for part, change, old, new in _line_changes(earlier, later, masks):
            life = tracked.pop((part, *new), None) if new else None
            if life is None and old and pattern.search(old[1].encode()):
                life = Life(part, *old, stands=False)
                lives.append(life)
            if life is not None:
                life.events.append(Event(version, part, change))
                if old:
                    tracked[part, *old] = life
        later = earlier
    for (part, path, line), life in tracked.items():
        life.events.append(Event(history[0], part, Change(How.ADDED, path, "", line)))
    return lives


_Place = tuple[str, str]  # path and line


def _line_changes(
    old: Mapping[str, bytes], new: Mapping[str, bytes], masks: Masks
) -> list[tuple[str, Change, _Place | None, _Place | None]]:
    """Every line that changed, with where and what it was and is."""
    found = []
    for part in compare_exports(old, new, masks):
        sides = Outline(part.old, masks.outline), Outline(part.new, masks.outline)
        if part.kind is Kind.BINARY:
            continue
        for change in text_changes(part.edits, part.old, part.new, masks.outline, fold=False):
            places: list[_Place | None] = [None, None]
            for side, (outline, lines, at) in enumerate(
                ((sides[0], part.old, change.old_at), (sides[1], part.new, change.new_at))
            ):
                if at is not None:
                    places[side] = _text(b" / ".join(outline.path(at - 1))), _text(lines[at - 1])
            found.append((part.name, change, places[0], places[1]))
    return found
