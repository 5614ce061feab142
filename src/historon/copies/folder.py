"""A copy as plain files that any tool reads: a folder for each version, named by its source and instant.

Beside them lies a manifest with the digest of each file, as `sha256sum` writes and checks it. What is in the manifest
is Historon's; a file that is not is never touched, unless it holds, byte for byte, what is to be there.
"""

import hashlib
import re
import secrets
from collections.abc import Mapping, Sequence
from contextlib import closing
from dataclasses import dataclass, field
from datetime import UTC, datetime
from pathlib import Path
from typing import ClassVar

from historon.copies.here import Folder, FolderHere
from historon.copies.places import plan_by_newest
from historon.copies.rebuilding import Found, rebuild
from historon.errors import OutsideError, StoreError
from historon.estate import Estate, FarCopy
from historon.store import Copied, Damage, Removed, Store, StoredPart, Verification, Version, open_store

__all__ = ["MANIFEST", "FolderCopy", "fetch", "update", "verify"]

MANIFEST = "SHA256SUMS"
_INTO = re.compile(r"\{(source|number|date|time|part)\}")
_FORMS = {
    "source": r"(?P<source>[^/]+)",
    "number": r"(?P<number>\d+)",
    "date": r"(?P<date>\d{4}-\d\d-\d\d)",
    "time": r"(?P<time>\d{6}(?:_\d+)?)",
    "part": r"(?P<part>.+)",
}


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
            raise ValueError("pattern knows {source}, {number}, {date}, {time} and {part}, and nothing else") from exc
        told = [one for one in ("{source}", "{part}") if one not in self.pattern]
        if told or not ("{number}" in self.pattern or ("{date}" in self.pattern and "{time}" in self.pattern)):
            raise ValueError("pattern must hold {source}, {part}, and {number} or {date} with {time}")
        if tried.startswith("/") or ".." in tried.split("/") or not self.pattern.endswith("{part}"):
            raise ValueError("pattern is a path below the copy's folder, with {part} at its end")

    @property
    def own_retention(self) -> str | None:
        """See Copy."""
        return self.retention


@dataclass(frozen=True)
class _File:
    """A file that is to be there: the part that it holds, and of which version."""

    version: Version
    part: StoredPart

    @property
    def digest(self) -> str:
        return self.part.sha256.hex()


@dataclass
class _Wanted:
    """All files that are to be there, by their names, and the parts that no file can hold."""

    files: dict[str, _File] = field(default_factory=dict)
    left_out: list[str] = field(default_factory=list)


def _folder_of(copy: FolderCopy, estate: Estate, *, make: bool) -> Folder:
    if copy.server is None:
        return FolderHere(estate.path(copy.path), make=make)
    from historon.copies.sftp import SftpFolder

    return SftpFolder(copy, estate, writes=make)


def update(copy: FolderCopy, estate: Estate, store: Store) -> Copied:
    """See CopyModule. New files come first, then the manifest that has them, and only then goes what is to go."""
    changes = store.change_number()
    wanted = _wanted(copy, estate, store)
    with _folder_of(copy, estate, make=True) as folder:
        ours, there = _manifest(folder), folder.files()
        by_digest = {digest: name for name, digest in ours.items() if name in there}
        for name, file in wanted.files.items():
            if ours.get(name) != file.digest or name not in there:
                is_ours = name in ours and name in there
                _write(store, folder, name, file, by_digest.get(file.digest), is_ours=is_ours)
            by_digest.setdefault(file.digest, name)
        folder.settle()
        digests = {name: file.digest for name, file in wanted.files.items()}
        if digests != ours or MANIFEST not in there:
            _write_manifest(folder, {**ours, **digests})
            for name in ours.keys() - digests.keys():
                if _problem(folder, name, ours[name]) == "":  # one that was changed since is no longer ours
                    folder.remove(name)
            _write_manifest(folder, digests)
            folder.settle()
    versions = {(file.version.source, file.version.number) for file in wanted.files.values()}
    size = sum(file.part.size for file in wanted.files.values())
    sources = {source for source, _ in versions}
    return Copied(len(sources), len(versions), size, changes, left_out=tuple(wanted.left_out))


def verify(copy: FolderCopy, estate: Estate, sample: int | None) -> Verification:
    """See CopyModule. Each file is read; what the manifest lacks of what is to be there is damage too."""
    with closing(open_store(estate)) as store:
        wanted = _wanted(copy, estate, store).files
    found = Verification(sources=len({file.version.source for file in wanted.values()}))
    found.versions = len({(file.version.source, file.version.number) for file in wanted.values()})
    with _folder_of(copy, estate, make=False) as folder:
        ours, there = _manifest(folder), folder.files()
        names = sorted({*wanted, *ours})
        read = set(names)
        if sample is not None and sample < len(names):
            found.sample_of = len(names)
            read = set(secrets.SystemRandom().sample(names, sample))
        for name in names:
            expected = wanted[name].digest if name in wanted else ours[name]
            problem = "" if name in there else "it is not there"
            if name in read:
                problem = _problem(folder, name, expected)
                found.contents += 1
                found.bytes += there.get(name, 0)
            if problem:
                file = wanted.get(name)
                source, number = (file.version.source, file.version.number) if file else ("", None)
                found.damages.append(Damage(source, number, name, problem))
    return found


def fetch(copy: FolderCopy, estate: Estate, folder: Path) -> None:
    """See CopyModule: versions and instants, by the names of the files that the manifest lists."""
    with _folder_of(copy, estate, make=False) as place:
        digests = _manifest(place)
        if not digests:
            raise StoreError(f"{place.place}: there is no {MANIFEST}", hint="is this the place of a copy?")
        form = re.compile(_INTO.sub(lambda match: _FORMS[match[1]], _escaped(copy.pattern)))
        names = {name: match for name in digests if (match := form.fullmatch(name))}
        versions: dict[tuple[str, datetime, int], dict[str, str]] = {}
        for name, match in names.items():
            told = match.groupdict()
            key = (told["source"], _instant(told), int(told.get("number") or _number_in(told)))
            versions.setdefault(key, {})[told["part"]] = name
        if not versions:
            message = f"{place.place}: no file is named by the pattern {copy.pattern}"
            raise StoreError(message, hint="give the pattern that the copy was made with")

        def read(name: str) -> bytes:
            content = b"".join(place.read(name))
            if hashlib.sha256(content).hexdigest() != digests[name]:
                raise StoreError(f"{place.place}: {name} does not match its SHA-256", hint="nothing was made of it")
            return content

        ordered = sorted(versions.items(), key=lambda one: (one[0][1], one[0][0], one[0][2]))
        rebuild(folder, [Found(source, at, parts) for (source, at, _), parts in ordered], read)


def _escaped(pattern: str) -> str:
    """The pattern with all that is none of its names taken as it is written."""
    pieces = _INTO.split(pattern)  # what stands between names, and names, by turns
    pieces[::2] = [re.escape(piece) for piece in pieces[::2]]
    pieces[1::2] = [f"{{{piece}}}" for piece in pieces[1::2]]
    return "".join(pieces)


def _instant(told: Mapping[str, str | None]) -> datetime:
    """The instant that a name tells; the beginning of 1970 where it tells none."""
    if not told.get("date"):
        return datetime.fromtimestamp(0, UTC)
    return datetime.strptime(f"{told['date']} {(told.get('time') or '000000')[:6]}", "%Y-%m-%d %H%M%S").replace(
        tzinfo=UTC
    )


def _number_in(told: Mapping[str, str | None]) -> int:
    """The number behind the time of the later of two versions within a second."""
    return int((told.get("time") or "").partition("_")[2] or 0)


def _wanted(copy: FolderCopy, estate: Estate, store: Store) -> _Wanted:
    found = _Wanted()
    for source in sorted(store.states()):
        known = store.versions(source)
        versions = _kept(copy, estate, known)
        times = _times(known, store.removed(source))
        parts = store.all_parts(source)
        for version in versions:
            day, time = times[version.number]
            latest = copy.latest and version is versions[-1]
            for part in parts.get(version.number, ()):
                if not _is_below(part.name):
                    found.left_out.append(f"{source}@{version.number} {part.name!r}: no file here can have this name")
                    continue
                values = {"source": source, "number": version.number, "date": day, "time": time}
                found.files[copy.pattern.format(part=part.name, **values)] = _File(version, part)
                if latest:
                    found.files[f"{source}/latest/{part.name}"] = _File(version, part)
    return found


def _times(versions: Sequence[Version], removed: Sequence[Removed]) -> dict[int, tuple[str, str]]:
    """The date and time in UTC of each version, each once: of two within a second the later bears its number as well.

    Those that were removed count, so that no version gets another name when one before it goes.
    """
    instants = {one.number: one.at for one in removed if one.at is not None}
    instants |= {one.number: one.at for one in versions}
    found: dict[int, tuple[str, str]] = {}
    taken: set[tuple[str, str]] = set()
    for number, at in sorted(instants.items()):
        day, time = at.astimezone(UTC).isoformat(timespec="seconds")[:19].split("T")
        told = day, time.replace(":", "")
        found[number] = told if told not in taken else (told[0], f"{told[1]}_{number:06}")
        taken.add(told)
    return found


def _kept(copy: FolderCopy, estate: Estate, versions: Sequence[Version]) -> list[Version]:
    """The good versions of a source, those that the copy's own retention lets stay."""
    staying = versions
    if copy.retention is not None and versions:
        staying = [one.version for one in plan_by_newest(estate, copy.retention, versions) if one.stays]
    return [version for version in staying if version.good]


def _is_below(name: str) -> bool:
    """Whether a name is that of something below the copy's folder, and one that the manifest can hold."""
    pieces = name.split("/")
    leads_elsewhere = ".." in pieces or not pieces[0]
    return name not in ("", ".") and not (leads_elsewhere or "\n" in name or "\\" in name)


def _manifest(folder: Folder) -> dict[str, str]:
    """The digests of the files that are ours, by name. StoreError when it says what none can say."""
    found: dict[str, str] = {}
    damaged = StoreError(f"{folder.place}/{MANIFEST}: the manifest is damaged", hint=_MANIFEST_HINT)
    try:
        text = b"".join(folder.read(MANIFEST)).decode("utf-8")
    except FileNotFoundError:
        return {}
    except UnicodeError as exc:
        raise damaged from exc
    for line in text.split("\n")[:-1]:  # names may hold what `splitlines` parts at
        digest, between, name = line[:64], line[64:66], line[66:]
        if between != "  " or len(digest) != 64 or not _is_below(name):
            raise damaged
        found[name] = digest
    return found


_MANIFEST_HINT = "move it away and update again: files that hold what is to be there are taken up as they are"


def _write_manifest(folder: Folder, digests: Mapping[str, str]) -> None:
    text = "".join(f"{digest}  {name}\n" for name, digest in sorted(digests.items()))
    folder.put(MANIFEST, [text.encode()])


def _write(store: Store, folder: Folder, name: str, file: _File, same: str | None, *, is_ours: bool) -> None:
    """Write a file, or link it to one of ours that holds the same; what is not ours is left as it is."""
    if not is_ours and (obstacle := folder.obstacle(name)):
        if _problem(folder, name, file.digest) == "":
            return  # of an update that was cut short
        raise OutsideError(f"{obstacle}, and not Historon's; nothing was changed in it", hint="move it away")
    if same is not None and _problem(folder, same, file.digest) == "" and folder.link(same, name):
        return
    folder.put(name, store.pieces(file.part))


def _problem(folder: Folder, name: str, expected: str) -> str:
    """What is wrong with a file; empty when it is there, whole."""
    digest = hashlib.sha256()
    try:
        for piece in folder.read(name):
            digest.update(piece)
    except FileNotFoundError:
        return "it is not there"
    except StoreError as exc:
        return exc.message
    return "" if digest.hexdigest() == expected else "it does not match its SHA-256"
