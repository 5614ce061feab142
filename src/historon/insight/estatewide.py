"""What changed across the estate: versions' fingerprints put together into families of equal changes."""

import hashlib
from collections import Counter, defaultdict
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from datetime import datetime, timedelta
from functools import cached_property
from itertools import pairwise
from math import log2

from historon.base.bounds import TooHeavyError
from historon.compare import Change, PartChange, compare_exports
from historon.insight.family import (
    Fingerprint,
    Reader,
    fingerprint,
    fingerprints,
    is_packed,
    packed,
    texts_of,
    unpacked_fingerprints,
)
from historon.insight.weights import Concern
from historon.store import Changed, Store
from historon.versions import Masks, contents_of

__all__ = ["Family", "Variant", "families", "fingerprinted", "variants"]

_TURNS = 3  # of an edit and its reverse that are to and fro
_NEAR = timedelta(days=2)
_MANY = 5  # sources that did the same, for each that did otherwise
_HANDLE = "abcdefghjkmnpqrstvwxyz23456789"


@dataclass(frozen=True)
class Family:
    """Changes that the same versions have in common, reported once.

    `handle` is a short name that stays the same as long as the changes and the versions do. `keys` are those of the
    changes' fingerprints; `own` says whether members differ in what is their own, such as their addresses. `unlike` is
    the family of the many that edited the same setting to something else, and `undoes` the earlier one that this takes
    back. With `to_and_fro` the members are those of an edit and of its reverse, again and again.
    """

    handle: str
    weight: int
    concern: Concern
    members: Sequence[Changed]
    keys: frozenset[bytes]
    own: bool = False
    unlike: "Family | None" = None
    undoes: "Family | None" = None
    to_and_fro: bool = False

    @cached_property
    def first(self) -> datetime:
        """When it was first seen."""
        return min(member.at for member in self.members)

    @cached_property
    def last(self) -> datetime:
        """When it was last seen."""
        return max(member.at for member in self.members)

    @cached_property
    def sources(self) -> list[str]:
        """Who has it, by name."""
        return sorted({member.source for member in self.members})

    @property
    def remarks(self) -> list[str]:
        """How it stands to others, in words."""
        found = []
        if self.to_and_fro:
            most = max(Counter(member.source for member in self.members).values())
            days = (self.last - self.first).days + 1
            found.append(f"to and fro, {most} times in {days} day{'s' * (days > 1)}")
        if self.undoes:
            days = round((self.first - self.undoes.first) / timedelta(days=1))
            ago = f"{days} day{'s' * (days > 1)} before" if days else "the same day"
            found.append(f"undoes {self.undoes.handle} of {ago}")
        if self.unlike:
            found.append(f"unlike {len(self.unlike.sources)} others, see {self.unlike.handle}")
        if self.own and len(self.sources) > 1:
            found.append("each with its own names, addresses or numbers")
        return found


@dataclass(frozen=True)
class Variant:
    """One form of a family's changes, with the members that have exactly it."""

    changes: Sequence[tuple[str, Change]]
    members: Sequence[Changed]


def fingerprinted(
    store: Store, changed: Iterable[Changed], rules: Callable[[str], tuple[Masks, Reader]]
) -> Iterator[Changed]:
    """The same versions, with the fingerprints of those that were recorded without; `rules` as in `variants`."""
    for version in changed:
        if is_packed(version.families):
            yield version
        else:
            masks, reader = rules(version.source)
            parts = _parts_changed(store, version, masks)
            yield replace(version, families=packed(fingerprints(parts, reader.learning(texts_of(parts)))))


@dataclass
class _Kind:
    """One change that is the same on all who have it, by its fingerprints."""

    having: list[tuple[Changed, Fingerprint]] = field(default_factory=list)
    to_and_fro: bool = False

    @property
    def keys(self) -> set[bytes]:
        return {found.key for _, found in self.having}

    @property
    def undone(self) -> set[bytes]:
        return {found.undone for _, found in self.having}

    @property
    def after(self) -> set[bytes]:
        return {found.after for _, found in self.having}

    @property
    def members(self) -> list[Changed]:
        return _by_name(version for version, _ in self.having)


def families(changed: Iterable[Changed], before: Iterable[Changed] = ()) -> list[Family]:
    """The families in these versions: what matters most first, then what most have, then the newest.

    Who did otherwise than many others stands before them. What came `before` is only looked at to know what was undone.
    """
    made = [(_family(kinds), kinds) for kinds in _together(changed)]
    earlier = [(_family(kinds), kinds) for kinds in _together(before)]
    return sorted(_related(made, earlier), key=lambda one: (-_rank(one), -one.last.timestamp(), one.handle))


def _together(changed: Iterable[Changed]) -> list[list[_Kind]]:
    """What the same versions have in common."""
    found: dict[tuple[tuple[str, int, bool], ...], list[_Kind]] = defaultdict(list)
    for kind in _to_and_fro(_kinds(changed)):
        found[tuple((one.source, one.number, kind.to_and_fro) for one in kind.members)].append(kind)
    return list(found.values())


def _kinds(changed: Iterable[Changed]) -> list[_Kind]:
    """Changes of the same shape that are alike in one way or exactly the same are one; also through a third."""
    joined: dict[tuple[str, bytes], tuple[str, bytes]] = {}

    def first(name: tuple[str, bytes]) -> tuple[str, bytes]:
        while (above := joined.setdefault(name, name)) != name:
            joined[name] = name = joined[above]
        return name

    pairs = [(version, found) for version in changed for found in unpacked_fingerprints(version.families)]
    for _, found in pairs:
        for name in (("sparing", found.shape + found.sparing), ("exact", found.shape + found.exact)):
            joined[first(name)] = first(("key", found.key))
    kinds: dict[tuple[str, bytes], _Kind] = defaultdict(_Kind)
    for version, found in pairs:
        kinds[first(("key", found.key))].having.append((version, found))
    return list(kinds.values())


def _to_and_fro(kinds: Sequence[_Kind]) -> Iterator[_Kind]:
    """The kinds, those put together of which one takes the other back again and again on the same source."""
    by_key = {found.key: kind for kind in kinds for _, found in kind.having}
    taken: set[int] = set()
    for kind in kinds:
        back = next((by_key[undone] for undone in sorted(kind.undone) if undone in by_key), None)
        if id(kind) in taken:
            continue
        if back is None or back is kind or id(back) in taken or not _alternate(kind, back):
            yield kind
            continue
        taken.add(id(back))
        yield _Kind([*kind.having, *back.having], to_and_fro=True)


def _alternate(kind: _Kind, back: _Kind) -> bool:
    """Whether on each source one follows the other, three times at least in all."""
    turns: dict[str, list[tuple[datetime, int]]] = defaultdict(list)
    for which, one in enumerate((kind, back)):
        for version in one.members:
            turns[version.source].append((version.at, which))
    ordered = [[which for _, which in sorted(some)] for some in turns.values()]
    changing = all(one != other for some in ordered for one, other in pairwise(some))
    return changing and all(len(some) >= _TURNS for some in ordered)


def _rank(family: Family) -> float:
    """One weight of nine is worth eight times as many sources; who did otherwise stands right before the many."""
    rank = 3 * family.weight + log2(len(family.members))
    if family.unlike:
        return max(rank, 3 * family.unlike.weight + log2(len(family.unlike.members)) + 0.01)
    return rank


def _family(kinds: Sequence[_Kind]) -> Family:
    gravest = max((found for kind in kinds for _, found in kind.having), key=lambda one: (one.weight, one.concern))
    keys = frozenset(key for kind in kinds for key in kind.keys)
    members = kinds[0].members
    told = b"".join(sorted(keys)) + "".join(f"{one.source}@{one.number} " for one in members).encode()
    own = not kinds[0].to_and_fro and any(len({found.exact for _, found in kind.having}) > 1 for kind in kinds)
    return Family(_handle(told), gravest.weight, gravest.concern, members, keys, own, to_and_fro=kinds[0].to_and_fro)


_Made = Sequence[tuple[Family, Sequence[_Kind]]]


def _related(made: _Made, earlier: _Made) -> Iterator[Family]:
    """The families, each with the one that it takes back, or with that of the many who did otherwise."""
    many: dict[bytes, list[tuple[Family, _Kind]]] = defaultdict(list)
    by_key: dict[bytes, list[Family]] = defaultdict(list)
    for family, kinds in [*made, *earlier]:
        for kind in kinds:
            if len(family.sources) >= _MANY:
                many[kind.having[0][1].shape].append((family, kind))
            for key in kind.keys:
                by_key[key].append(family)
    for family, kinds in made:
        undoes = None if family.to_and_fro else _undone_by(family, kinds, by_key)
        others = [one for kind in kinds for one, other in many[kind.having[0][1].shape] if not kind.after & other.after]
        unlike = next((one for one in others if _is_odd(family, one)), None)
        yield replace(family, undoes=undoes, unlike=None if undoes else unlike)


def _is_odd(family: Family, many: Family) -> bool:
    """Whether these few did otherwise than many others at about the same time."""
    few = len(family.sources)
    near = many.first - _NEAR <= family.last and family.first <= many.last + _NEAR
    return near and len(many.sources) >= _MANY * few and not set(family.sources) & set(many.sources)


def _undone_by(family: Family, kinds: Sequence[_Kind], by_key: Mapping[bytes, Sequence[Family]]) -> Family | None:
    """The family all of whose changes this one takes back, on sources that had them before."""
    sources = set(family.sources)
    for other in (one for undone in sorted(kinds[0].undone) for one in by_key.get(undone, ())):
        earlier = {one.source for one in other.members if one.at < family.first}
        whole = all(any(other in by_key.get(undone, ()) for undone in kind.undone) for kind in kinds)
        if other.handle != family.handle and sources <= earlier and whole:
            return other
    return None


def _by_name(versions: Iterable[Changed]) -> list[Changed]:
    """Each version once, by source and number."""
    known = {(one.source, one.number): one for one in versions}
    return [known[place] for place in sorted(known)]


def _handle(told: bytes) -> str:
    number = int.from_bytes(hashlib.blake2b(told, digest_size=8).digest())
    letters = []
    for _ in range(4):
        number, letter = divmod(number, len(_HANDLE))
        letters.append(_HANDLE[letter])
    return "".join(letters)


def variants(
    store: Store, family: Family, rules: Callable[[str], tuple[Masks, Reader]], *, most: int | None = None
) -> Iterator[Variant]:
    """The forms of a family, read from its versions, the one that most members have first.

    `rules` are the masks of a source and how its changes are read. Of the versions at most `most` are read. Versions
    that were pruned meanwhile, or whose predecessor was, are left out.
    """
    forms: dict[tuple[tuple[object, ...], ...], tuple[list[tuple[str, Change]], list[Changed]]] = {}
    for read, member in enumerate(family.members):
        if most is not None and read >= most:
            break
        changes = _changes_of(store, family, member, *rules(member.source))
        if changes:
            key = tuple((part, one.how, one.path, one.old, one.new, one.under) for part, one in changes)
            forms.setdefault(key, (changes, []))[1].append(member)
    for changes, members in sorted(forms.values(), key=lambda form: -len(form[1])):
        yield Variant(changes, members)


def _changes_of(
    store: Store, family: Family, member: Changed, masks: Masks, reader: Reader
) -> list[tuple[str, Change]]:
    """Those of a version's changes that belong to the family."""
    parts = _parts_changed(store, member, masks)
    learnt = reader.learning(texts_of(parts))
    return [
        (part.name, change)
        for part in parts
        for change in part.changes
        if fingerprint(part.name, change, learnt).key in family.keys
    ]


def _parts_changed(store: Store, member: Changed, masks: Masks) -> list[PartChange]:
    """What a version changed against the one before it; nothing when either is gone."""
    earlier = [one for one in store.versions(member.source) if one.good and one.number < member.number]
    if not earlier or store.version(member.source, member.number) is None:
        return []
    try:
        before, after = (contents_of(store, member.source, number) for number in (earlier[-1].number, member.number))
    except TooHeavyError:
        return []  # what was noted of it when it was collected is shown
    return compare_exports(before, after, masks)
