"""What changed across the estate: versions' fingerprints put together into families of equal changes."""

import hashlib
from collections import Counter, defaultdict
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from datetime import datetime
from math import log2

from historon.compare.changes import Change
from historon.compare.exports import PartChange, compare_exports, contents_of
from historon.compare.families import (
    Concern,
    Fingerprint,
    Plain,
    fingerprint,
    fingerprints,
    packed,
    unpacked_fingerprints,
)
from historon.compare.masks import Masks
from historon.store import Changed, Store

__all__ = ["Family", "Variant", "families", "fingerprinted", "variants"]

_HANDLE = "abcdefghjkmnpqrstvwxyz23456789"


@dataclass(frozen=True)
class Family:
    """Changes that the same versions have in common, told once.

    `handle` is a short name that stays the same as long as the changes and the versions do. `alike` are the changes
    with placeholders, each with the form that most members have; `odd` are the members that have another.
    """

    handle: str
    concern: Concern
    members: Sequence[Changed]
    alike: Mapping[bytes, bytes]
    odd: Sequence[Changed]

    @property
    def first(self) -> datetime:
        """When it was first seen."""
        return min(member.at for member in self.members)

    @property
    def last(self) -> datetime:
        """When it was last seen."""
        return max(member.at for member in self.members)

    @property
    def sources(self) -> list[str]:
        """Who has it, by name."""
        return sorted({member.source for member in self.members})


@dataclass(frozen=True)
class Variant:
    """One form of a family's changes, with the members that have exactly it."""

    changes: Sequence[tuple[str, Change]]
    members: Sequence[Changed]


def fingerprinted(
    store: Store, changed: Iterable[Changed], rules: Callable[[str], tuple[Masks, Plain]]
) -> Iterator[Changed]:
    """The same versions, with the fingerprints of those that were recorded without; `rules` as in `variants`."""
    for version in changed:
        if version.families:
            yield version
        else:
            masks, plain = rules(version.source)
            yield replace(version, families=packed(fingerprints(_parts_changed(store, version, masks), plain)))


def families(changed: Iterable[Changed]) -> list[Family]:
    """The families in these versions: what matters most first, then what most have, then the newest."""
    having: dict[bytes, list[tuple[Changed, Fingerprint]]] = defaultdict(list)
    for version in changed:
        for found in unpacked_fingerprints(version.families):
            having[found.alike].append((version, found))
    together: dict[tuple[tuple[str, int], ...], list[bytes]] = defaultdict(list)
    for alike, pairs in having.items():
        together[tuple(sorted({(version.source, version.number) for version, _ in pairs}))].append(alike)
    made = [_family(alikes, having) for alikes in together.values()]
    return sorted(made, key=lambda one: (-_rank(one), -one.last.timestamp(), one.handle))


def _rank(family: Family) -> float:
    """A weight is worth eight times as many sources."""
    return 3 * family.concern.weight + log2(len(family.members))


def _family(alikes: Sequence[bytes], having: Mapping[bytes, Sequence[tuple[Changed, Fingerprint]]]) -> Family:
    usual, odd, concern = {}, {}, Concern.REMARK
    for alike in alikes:
        forms = Counter(found.exact for _, found in having[alike])
        usual[alike] = max(forms, key=lambda exact: (forms[exact], exact))
        concern = max(concern, *(found.concern for _, found in having[alike]))
        odd.update({
            (version.source, version.number): version
            for version, found in having[alike] if found.exact != usual[alike]
        })  # fmt: skip
    members = _by_name(version for version, _ in having[alikes[0]])
    told = b"".join(sorted(alikes)) + "".join(f"{one.source}@{one.number} " for one in members).encode()
    return Family(_handle(told), concern, members, usual, _by_name(odd.values()))


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
    store: Store, family: Family, rules: Callable[[str], tuple[Masks, Plain]], *, most: int | None = None
) -> Iterator[Variant]:
    """The forms of a family, read from its versions, the one that most members have first.

    `rules` are the masks and names of a source. Of the versions at most `most` are read. Versions that were pruned
    meanwhile, or whose predecessor was, are left out.
    """
    odd = {(one.source, one.number) for one in family.odd}
    ordered = sorted(family.members, key=lambda one: (one.source, one.number) in odd)
    forms: dict[tuple[tuple[str, str, str, str, str], ...], tuple[list[tuple[str, Change]], list[Changed]]] = {}
    for read, member in enumerate(ordered):
        if most is not None and read >= most:
            break
        changes = _changes_of(store, family, member, *rules(member.source))
        if changes:
            key = tuple((part, one.how, one.path, one.old, one.new) for part, one in changes)
            forms.setdefault(key, (changes, []))[1].append(member)
    for changes, members in sorted(forms.values(), key=lambda form: -len(form[1])):
        yield Variant(changes, members)


def _changes_of(store: Store, family: Family, member: Changed, masks: Masks, plain: Plain) -> list[tuple[str, Change]]:
    """Those of a version's changes that belong to the family."""
    return [
        (part.name, change)
        for part in _parts_changed(store, member, masks) for change in part.changes
        if fingerprint(part.name, change, plain).alike in family.alike
    ]  # fmt: skip


def _parts_changed(store: Store, member: Changed, masks: Masks) -> list[PartChange]:
    """What a version changed against the one before it; nothing when either is gone."""
    earlier = [one for one in store.versions(member.source) if one.good and one.number < member.number]
    if not earlier or store.version(member.source, member.number) is None:
        return []
    before, after = (contents_of(store, member.source, number) for number in (earlier[-1].number, member.number))
    return compare_exports(before, after, masks)
