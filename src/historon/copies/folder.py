"""A copy as plain files that any tool reads: a folder for each version, named by its source and instant.

Beside them lies a manifest with the digest of each file, as `sha256sum` writes and checks it. What is in the manifest
is Historon's; a file that is not is never touched, unless it holds, byte for byte, what is to be there. A record says
which store the copy belongs to, and which versions it was given.
"""

import hashlib
import secrets
from collections import defaultdict
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from datetime import datetime
from functools import cache
from pathlib import Path
from typing import ClassVar

from historon.base.errors import OutsideError, RefusedError, StoreError
from historon.copies.checking import check_belongs, store_identity
from historon.copies.here import Folder, FolderHere
from historon.copies.interface import Holdings
from historon.copies.manifest import MANIFEST, RECORD, Record, is_below, problem_of, read_manifest, write_manifest
from historon.copies.naming import NamedFile, Pattern, times_of
from historon.copies.places import plan_by_newest
from historon.copies.rebuilding import Found, UnreadableError, rebuild
from historon.copies.removals import approval_of
from historon.estate import Estate, FarCopy
from historon.store import (
    Copied,
    Damage,
    Followed,
    State,
    Store,
    StoredPart,
    Verification,
    Version,
    contradiction,
    digest_of_names,
    lost,
)

__all__ = ["MANIFEST", "FolderCopy", "fetch", "holdings", "is_there", "update", "verify"]


class FolderCopy(FarCopy, frozen=True, kw_only=True):
    """`kind = "folder"`: plain files, named by `pattern`, and the newest also under `latest`."""

    kind: ClassVar[str] = "folder"

    pattern: str = "{source}/{date}T{time}Z/{part}"
    latest: bool = False
    retention: str | None = None

    def __post_init__(self) -> None:
        """A pattern gives each part of each version a name of its own, below the copy's folder."""
        super().__post_init__()
        try:
            tried = self.pattern.format(source="s", number=1, date="d", time="t", part="p")
        except (KeyError, IndexError, ValueError, AttributeError) as exc:
            raise ValueError("pattern takes only {source}, {number}, {date}, {time} and {part}") from exc
        told = [one for one in ("{source}", "{part}") if one not in self.pattern]
        if told or not ("{number}" in self.pattern or ("{date}" in self.pattern and "{time}" in self.pattern)):
            raise ValueError("pattern must contain {source}, {part}, and {number} or {date} with {time}")
        if tried.startswith("/") or ".." in tried.split("/") or not self.pattern.endswith("{part}"):
            raise ValueError("pattern is a path below the copy's folder, with {part} at its end")

    @property
    def reserved(self) -> tuple[str, ...]:
        return (MANIFEST, RECORD)

    @property
    def own_retention(self) -> str | None:
        return self.retention


@dataclass(frozen=True)
class _File:
    """A file that is to be there: the part that it holds, and of which version."""

    version: Version
    part: StoredPart

    @property
    def digest(self) -> str:
        return self.part.sha256.hex()


class _Known:
    """What the store knows of its sources, each asked for once."""

    def __init__(self, store: Store) -> None:
        self.store = store
        self.versions = cache(store.versions)
        self.removed = cache(store.removed)
        self.parts = cache(store.all_parts)

    def times(self, source: str) -> dict[int, tuple[str, str]]:
        """The date and time of each version, those that were removed too."""
        return times_of(self.versions(source), self.removed(source))


@dataclass
class _Wanted:
    """All files that are to be there, by their names, and the parts that no file can hold."""

    files: dict[str, _File] = field(default_factory=dict)
    left_out: list[str] = field(default_factory=list)

    @property
    def numbers(self) -> dict[str, frozenset[int]]:
        """The numbers of the versions, by source."""
        found: defaultdict[str, set[int]] = defaultdict(set)
        for file in self.files.values():
            found[file.version.source].add(file.version.number)
        return {source: frozenset(numbers) for source, numbers in found.items()}


def _folder_of(copy: FolderCopy, estate: Estate, *, make: bool) -> Folder:
    if copy.server is None:
        return FolderHere(estate.path(copy.path), make=make)
    from historon.copies.sftp import SftpFolder

    return SftpFolder(copy, estate, writes=make)


def is_there(copy: FolderCopy, estate: Estate) -> bool | None:
    """See CopyModule."""
    return (estate.path(copy.path) / MANIFEST).is_file() if copy.server is None else None


# ---- bringing it up to date ------------------------------------------------------------------------------------------


def update(copy: FolderCopy, estate: Estate, store: Store, now: datetime, damaged: Sequence[Damage]) -> Copied:
    """See CopyModule. New files come first, then the manifest that has them, and only then is removed what is to be."""
    changes, known = store.change_number(), _Known(store)
    wanted = _wanted(copy, estate, known)
    with _folder_of(copy, estate, make=True) as folder:
        ours, there = read_manifest(folder), folder.files()
        record = Record.read(folder)
        _check(copy, estate, known, folder, record, ours, now)
        made = Record(store_identity(store), estate.settings.name, copy.pattern, wanted.numbers)
        if record != made:
            _with_those_of(made, record).write(folder)
        bad = {one.part for one in damaged}
        by_digest = {digest: name for name, digest in ours.items() if name in there and name not in bad}
        mended = []
        for name, file in wanted.files.items():
            if ours.get(name) != file.digest or name not in there or name in bad:
                is_ours = name in ours and name in there
                _write(store, folder, name, file, by_digest.get(file.digest), is_ours=is_ours)
                mended += [name] if name in ours else []
            by_digest.setdefault(file.digest, name)
        folder.settle()
        digests = {name: file.digest for name, file in wanted.files.items()}
        if digests != ours or MANIFEST not in there:
            write_manifest(folder, {**ours, **digests})
            for name in ours.keys() - digests.keys():
                if problem_of(folder, name, ours[name]) == "":  # one that was changed since is no longer ours
                    folder.remove(name)
            write_manifest(folder, digests)
            folder.settle()
        if record != made:
            made.write(folder)
            folder.settle()
    versions = {(file.version.source, file.version.number) for file in wanted.files.values()}
    size = sum(file.part.size for file in wanted.files.values())
    sources = {source for source, _ in versions}
    mended = [name for name in mended if "/latest/" not in name or name in bad]
    return Copied(
        len(sources), len(versions), size, changes, left_out=tuple(wanted.left_out), mended=tuple(sorted(mended))
    )


def _with_those_of(made: Record, before: Record | None) -> Record:
    """A record that holds until the update has come to its end: the versions of before too, and their pattern."""
    if before is None:
        return made
    names = made.versions.keys() | before.versions.keys()
    versions = {name: made.versions.get(name, frozenset()) | before.versions.get(name, frozenset()) for name in names}
    return Record(made.store, made.estate, before.pattern, versions)


def _check(
    copy: FolderCopy,
    estate: Estate,
    known: _Known,
    folder: Folder,
    record: Record | None,
    ours: Mapping[str, str],
    now: datetime,
) -> None:
    """RefusedError where the copy is another store's, or holds what the store neither has nor removed on record."""
    if record is not None:
        check_belongs(folder.place, record.store, record.estate, known.store)
        _check_known(record, known, folder.place)
    held, strange = _held(Pattern(record.pattern if record else copy.pattern), known, record, ours)
    if strange:
        more = f" and {len(strange) - 1} more" if len(strange) > 1 else ""
        hint = "the store lost versions, or the files are of another store; the copy was not changed"
        message = f"{folder.place} has {min(strange)}{more}, of versions that the store lacks"
        raise RefusedError(message, hint=hint)
    numbers: dict[str, set[int]] = {source: set(versions) for source, versions in held.items()}
    for source, given in (record.versions if record else {}).items():
        numbers.setdefault(source, set()).update(given)
    followed: list[Followed] = []
    digests: defaultdict[str, dict[int, bytes]] = defaultdict(dict)
    for source, all_given in numbers.items():
        there = {one.number for one in known.versions(source)}
        removed = {one.number: one for one in known.removed(source)}
        for number in sorted(all_given):
            files = held.get(source, {}).get(number, {})
            if number in there:
                parts = known.parts(source).get(number, ())
                _check_same(known.store, folder, source, number, files, parts, ours)
            elif files:
                gone = removed[number]
                before = Version(source, number, gone.at or now, State.GOOD, 0, 0, 0)
                followed.append(Followed(before, gone.sha256, gone.rule, gone.gone, gone.round, state_known=False))
                digests[source][number] = digest_of_names({part: ours[name] for part, name in files.items()})
    if followed:
        approval_of(estate, known.store, now, digests)(followed)


_Held = dict[str, dict[int, dict[str, str]]]


def _check_known(record: Record, known: _Known, place: str) -> None:
    """RefusedError where the copy was given a version that the store neither has nor removed on record."""
    for source, given in sorted(record.versions.items()):
        there = {one.number for one in known.versions(source)}
        missing = given - there - {one.number for one in known.removed(source)}
        if missing:
            raise lost(place, f"has {source}@{min(missing)}, which is neither in the store nor removed on record")


def _held(pattern: Pattern, known: _Known, record: Record | None, ours: Mapping[str, str]) -> tuple[_Held, list[str]]:
    """The files in the manifest by source, number and part; and those that are of no version that is known.

    A version that only the copy has is known by the record: in the order of instants the numbers ascend, too.
    """
    by_source: defaultdict[str, dict[str, NamedFile]] = defaultdict(dict)
    strange = []
    for name in ours:
        named = pattern.read(name)
        if named is not None:
            by_source[named.source][name] = named
        elif name.split("/")[1:2] != ["latest"]:
            strange.append(name)
    found: _Held = {}
    for source, files in by_source.items():
        times = known.times(source)
        only_there = sorted({(one.date, one.time) for one in files.values()} - set(times.values()))
        given = sorted((record.versions.get(source, frozenset()) if record else frozenset()) - times.keys())
        if len(only_there) == len(given):
            times |= dict(zip(given, only_there, strict=True))
        numbers = pattern.numbers(source, times, files.values())
        for name, named in files.items():
            if named in numbers:
                found.setdefault(source, {}).setdefault(numbers[named], {})[named.part] = name
            elif name.split("/")[1:2] != ["latest"]:
                strange.append(name)
    return found, strange


def _check_same(
    store: Store,
    folder: Folder,
    source: str,
    number: int,
    files: Mapping[str, str],
    parts: Sequence[StoredPart],
    ours: Mapping[str, str],
) -> None:
    """RefusedError where the copy holds, whole, something else under the name of a version."""
    wanted = {part.name: part.sha256.hex() for part in parts}
    for part, name in files.items():
        if wanted.get(part) != ours[name] and problem_of(folder, name, ours[name]) == "":
            for one in parts:
                sum(map(len, store.pieces(one)))  # StoreError where the store is damaged: then it says nothing
            raise contradiction(folder.place, source, number)


def _write(store: Store, folder: Folder, name: str, file: _File, same: str | None, *, is_ours: bool) -> None:
    """Write a file, or link it to one of ours that holds the same; what is not ours is left as it is."""
    if not is_ours and (obstacle := folder.obstacle(name)):
        if problem_of(folder, name, file.digest) == "":
            return  # of an update that was cut short
        raise OutsideError(f"{obstacle}, and is not Historon's; nothing was changed in it", hint="move it away")
    if same is not None and problem_of(folder, same, file.digest) == "" and folder.link(same, name):
        return
    folder.put(name, store.pieces(file.part))


def _wanted(copy: FolderCopy, estate: Estate, known: _Known) -> _Wanted:
    found, pattern = _Wanted(), Pattern(copy.pattern)
    for source in sorted(known.store.states()):
        versions = _kept(copy, estate, known.versions(source))
        times, parts = known.times(source), known.parts(source)
        for version in versions:
            latest = copy.latest and version is versions[-1]
            for part in parts.get(version.number, ()):
                if not is_below(part.name):
                    found.left_out.append(f"{source}@{version.number} {part.name!r}: no file here can have this name")
                    continue
                name = pattern.name(source, version.number, times[version.number], part.name)
                found.files[name] = _File(version, part)
                if latest:
                    found.files[f"{source}/latest/{part.name}"] = _File(version, part)
    return found


def _kept(copy: FolderCopy, estate: Estate, versions: Sequence[Version]) -> list[Version]:
    """The good versions of a source, those that the copy's own retention lets stay."""
    staying = versions
    if copy.retention is not None and versions:
        staying = [one.version for one in plan_by_newest(estate, copy.retention, versions) if one.stays]
    return [version for version in staying if version.good]


# ---- reading it ------------------------------------------------------------------------------------------------------


def verify(copy: FolderCopy, estate: Estate, store: Store, sample: int | None, _settings: str) -> Verification:
    """See CopyModule. Each file is read; what the manifest lacks of what is to be there is damage too."""
    wanted, identity = _wanted(copy, estate, _Known(store)).files, store_identity(store)
    found = Verification(sources=len({file.version.source for file in wanted.values()}))
    found.versions = len({(file.version.source, file.version.number) for file in wanted.values()})
    with _folder_of(copy, estate, make=False) as folder:
        ours, there = read_manifest(folder), folder.files()
        record = Record.read(folder)
        if record is None or record.store != identity:
            found.differing.append(Damage("", None, RECORD, "it has no record that the copy belongs to the store"))
        names = sorted({*wanted, *ours})
        read = set(names)
        if sample is not None and sample < len(names):
            found.sample_of = len(names)
            read = set(secrets.SystemRandom().sample(names, sample))
        for name in names:
            expected = wanted[name].digest if name in wanted else ours[name]
            problem = "" if name in there else "it is missing"
            if name in read:
                problem = problem_of(folder, name, expected)
                found.contents += 1
                found.bytes += there.get(name, 0)
            if problem:
                file = wanted.get(name)
                source, number = (file.version.source, file.version.number) if file else ("", None)
                found.damages.append(Damage(source, number, name, problem))
    return found


def is_newer(copy: FolderCopy, estate: Estate, store: Store, *, ask: bool) -> bool | None:
    """See CopyModule."""
    if copy.server is not None and not ask:
        return None
    with _folder_of(copy, estate, make=False) as folder:
        record = Record.read(folder)
    if record is None or record.store != store_identity(store):
        return False
    known = store.last_numbers()
    return any(max(numbers, default=0) > known.get(source, 0) for source, numbers in record.versions.items())


def holdings(copy: FolderCopy, estate: Estate, store: Store) -> Holdings:
    """See CopyModule."""
    with _folder_of(copy, estate, make=False) as folder:
        ours, record = read_manifest(folder), Record.read(folder)
        held, _ = _held(Pattern(record.pattern if record else copy.pattern), _Known(store), record, ours)
        digests = {
            source: {
                number: digest_of_names({part: ours[name] for part, name in files.items()})
                for number, files in versions.items()
            }
            for source, versions in held.items()
        }
    return Holdings(record.store if record else "", digests)


def fetch(copy: FolderCopy, estate: Estate, folder: Path) -> list[Damage]:
    """See CopyModule: versions and instants, by the names of the files that the manifest lists."""
    with _folder_of(copy, estate, make=False) as place:
        digests = read_manifest(place)
        if not digests:
            raise StoreError(f"{place.place}: there is no {MANIFEST}", hint="check whether this is the copy's location")
        record = Record.read(place)
        pattern = Pattern(record.pattern if record else copy.pattern)
        versions: defaultdict[tuple[str, datetime, int], dict[str, str]] = defaultdict(dict)
        for name in digests:
            named = pattern.read(name)
            if named is None or (named.part and name.split("/")[1:2] == ["latest"]):
                continue
            try:
                versions[named.source, named.at, named.order][named.part] = name
            except ValueError as exc:
                raise StoreError(f"{place.place}: {name} has no instant in its name", hint="give the pattern") from exc
        if not versions:
            message = f"{place.place}: no file name matches the pattern {pattern.text}"
            raise StoreError(message, hint="give the pattern that the copy was made with")

        def read(name: str) -> bytes:
            try:
                content = b"".join(place.read(name))
            except (FileNotFoundError, StoreError) as exc:
                raise UnreadableError(f"{name} is missing or unreadable") from exc
            if hashlib.sha256(content).hexdigest() != digests[name]:
                raise UnreadableError(f"{name} does not match its SHA-256")
            return content

        ordered = sorted(versions.items(), key=lambda one: (one[0][1], one[0][0], one[0][2]))
        return rebuild(folder, [Found(source, at, parts) for (source, at, _), parts in ordered], read)
