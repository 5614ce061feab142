"""A copy as plain files that any tool reads: a folder for each version, named by its source and instant.

Beside them lies a manifest with the digest of each file, as `sha256sum` writes and checks it. What is in the manifest
is Historon's; a file that is not is never touched, unless it holds, byte for byte, what is to be there.
"""

import hashlib
import os
from collections.abc import Iterator, Mapping
from contextlib import closing
from dataclasses import dataclass
from datetime import UTC
from pathlib import Path, PurePosixPath

from historon.errors import OutsideError, StoreError
from historon.estate import Copy, Estate, FolderCopy
from historon.retention import plan
from historon.store import Copied, Damage, Store, StoredPart, Verification, Version, open_store

__all__ = ["MANIFEST", "update", "verify"]

MANIFEST = "SHA256SUMS"
_COMING = ".historon.coming"  # the file that is being written, until it takes its name


@dataclass(frozen=True)
class _File:
    """A file that is to be there: the part that it holds, and of which version."""

    version: Version
    part: StoredPart

    @property
    def digest(self) -> str:
        return self.part.sha256.hex()


def update(copy: Copy, estate: Estate, store: Store) -> Copied:
    """See CopyModule. New files come first, then the manifest that has them, and only then goes what is to go."""
    assert isinstance(copy, FolderCopy)  # noqa: S101 (its kind)
    place = estate.path(copy.path)
    changes = store.change_number()
    wanted = _wanted(copy, estate, store)
    try:
        place.mkdir(mode=0o700, exist_ok=True)
        ours = _manifest(place)
        by_digest = {digest: name for name, digest in ours.items()}
        for name, file in wanted.items():
            if ours.get(name) != file.digest or not _is_file(place, name):
                _write(store, place, name, file, by_digest.get(file.digest), is_ours=name in ours)
            by_digest.setdefault(file.digest, name)
        digests = {name: file.digest for name, file in wanted.items()}
        _write_manifest(place, {**ours, **digests})
        for name in ours.keys() - wanted.keys():
            _remove(place, name, ours[name])
        _write_manifest(place, digests)
    except OSError as exc:
        hint = "is it mounted, writable, and is there room? What is there is as it was"
        raise StoreError(f"{exc.filename or place}: {exc.strerror}", hint=hint) from exc
    versions = {(file.version.source, file.version.number) for file in wanted.values()}
    size = sum(file.part.size for file in wanted.values())
    return Copied(len({source for source, _ in versions}), len(versions), size, changes)


def verify(copy: Copy, estate: Estate) -> Verification:
    """See CopyModule. Each file is read; what the manifest lacks of what is to be there is damage too."""
    assert isinstance(copy, FolderCopy)  # noqa: S101 (its kind)
    place = estate.path(copy.path)
    with closing(open_store(estate)) as store:
        wanted = _wanted(copy, estate, store)
    ours = _manifest(place)
    found = Verification(sources=len({file.version.source for file in wanted.values()}))
    found.versions = len({(file.version.source, file.version.number) for file in wanted.values()})
    for name in sorted({*wanted, *ours}):
        expected = wanted[name].digest if name in wanted else ours[name]
        problem = _problem(place, name, expected)
        found.contents += 1
        if problem:
            file = wanted.get(name)
            source, number = (file.version.source, file.version.number) if file else ("", None)
            found.damages.append(Damage(source, number, name, problem))
        else:
            found.bytes += (place / name).stat().st_size
    return found


def _wanted(copy: FolderCopy, estate: Estate, store: Store) -> dict[str, _File]:
    """All files that are to be there, by their names below the copy's folder."""
    found: dict[str, _File] = {}
    for source in sorted(store.states()):
        versions = _kept(copy, estate, store, source)
        times = _times(store, source)
        for version in versions:
            day, time = times[version.number]
            latest = copy.latest and version is versions[-1]
            for part in store.parts(source, version.number):
                _check(part.name, source)
                values = {"source": source, "number": version.number, "date": day, "time": time}
                found[copy.pattern.format(part=part.name, **values)] = _File(version, part)
                if latest:
                    found[f"{source}/latest/{part.name}"] = _File(version, part)
    return found


def _times(store: Store, source: str) -> dict[int, tuple[str, str]]:
    """The date and time in UTC of each version, each once: of two within a second the later bears its number as well.

    Those that were removed count, so that no version gets another name when one before it goes.
    """
    instants = {one.number: one.at for one in store.removed(source) if one.at is not None}
    instants |= {one.number: one.at for one in store.versions(source)}
    found: dict[int, tuple[str, str]] = {}
    taken: set[tuple[str, str]] = set()
    for number, at in sorted(instants.items()):
        instant = at.astimezone(UTC)
        told = f"{instant:%Y-%m-%d}", f"{instant:%H%M%S}"
        found[number] = told if told not in taken else (told[0], f"{told[1]}_{number:06}")
        taken.add(told)
    return found


def _kept(copy: FolderCopy, estate: Estate, store: Store, source: str) -> list[Version]:
    """The good versions of a source, those that the copy's own retention lets stay."""
    versions = store.versions(source)
    if copy.retention is not None and versions:
        # By the newest version, not by a clock: what is kept depends on the versions alone.
        rules = estate.retention[copy.retention]
        verdicts = plan(versions, rules, now=versions[-1].at, zone=estate.zone)
        versions = [verdict.version for verdict in verdicts if verdict.stays]
    return [version for version in versions if version.good]


def _is_below(name: str) -> bool:
    """Whether a name is that of something below the copy's folder, and one that the manifest can hold."""
    path = PurePosixPath(name)
    return bool(path.parts) and not (path.is_absolute() or ".." in path.parts or "\n" in name or "\\" in name)


def _check(name: str, source: str) -> None:
    if not _is_below(name):
        message = f"{source}: a part cannot be a file of this name: {name!r}"
        raise OutsideError(message, hint='copy it as a store: kind = "store"')


def _manifest(place: Path) -> dict[str, str]:
    """The digests of the files that are ours, by name. StoreError when it says what none can say."""
    found: dict[str, str] = {}
    try:
        text = (place / MANIFEST).read_text(encoding="utf-8")
    except FileNotFoundError:
        return {}
    except UnicodeError as exc:
        raise StoreError(f"{place / MANIFEST}: the manifest is damaged", hint=_MANIFEST_HINT) from exc
    for line in text.split("\n")[:-1]:  # names may hold what `splitlines` parts at
        digest, between, name = line[:64], line[64:66], line[66:]
        if between != "  " or len(digest) != 64 or not _is_below(name):
            raise StoreError(f"{place / MANIFEST}: the manifest is damaged", hint=_MANIFEST_HINT)
        found[name] = digest
    return found


_MANIFEST_HINT = "move it away and update again: files that hold what is to be there are taken up as they are"


def _write_manifest(place: Path, digests: Mapping[str, str]) -> None:
    text = "".join(f"{digest}  {name}\n" for name, digest in sorted(digests.items()))
    _put(place, MANIFEST, iter([text.encode()]))


def _write(store: Store, place: Path, name: str, file: _File, same: str | None, *, is_ours: bool) -> None:
    """Write a file, or link it to one of ours that holds the same; what is not ours is left as it is."""
    target = place / name
    if target.is_symlink() or (target.exists() and not is_ours):
        if _problem(place, name, file.digest) == "":
            return  # of an update that was cut short
        raise OutsideError(f"{target} is there, and not Historon's; nothing was changed in it", hint="move it away")
    _make_folders(place, target.parent)
    if same is not None and _problem(place, same, file.digest) == "":
        coming = place / _COMING
        coming.unlink(missing_ok=True)
        try:
            os.link(place / same, coming)
        except OSError:
            pass  # the file system has no links: it is written
        else:
            coming.replace(target)
            return
    _put(place, name, store.pieces(file.part))


def _put(place: Path, name: str, pieces: Iterator[bytes]) -> None:
    """A whole file, or none: it takes its name once it is on disk."""
    coming = place / _COMING
    coming.unlink(missing_ok=True)
    with open(os.open(coming, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600), "wb") as made:
        for piece in pieces:
            made.write(piece)
        made.flush()
        os.fsync(made.fileno())
    coming.replace(place / name)


def _make_folders(place: Path, folder: Path) -> None:
    """Folders below the copy's own; none is made, or gone through, by way of a link."""
    at = place
    for part in folder.relative_to(place).parts:
        at /= part
        if at.is_symlink():
            raise OutsideError(f"{at} is a link, and not Historon's", hint="move it away")
        at.mkdir(mode=0o700, exist_ok=True)


def _remove(place: Path, name: str, digest: str) -> None:
    """Remove a file of ours, and the folders that are empty then; one that was changed since is no longer ours."""
    target = place / name
    if _problem(place, name, digest) == "":
        target.unlink()
    for folder in target.parents:
        if folder == place:
            return
        try:
            folder.rmdir()
        except OSError:
            return  # something else is in it, or it is gone already


def _problem(place: Path, name: str, digest: str) -> str:
    """What is wrong with a file; empty when it is there, whole."""
    if not _is_file(place, name):
        return "it is not there"
    try:
        with (place / name).open("rb") as opened:
            right = hashlib.file_digest(opened, "sha256").hexdigest() == digest
    except OSError as exc:
        return f"it cannot be read: {exc.strerror}"
    return "" if right else "it does not match its SHA-256"


def _is_file(place: Path, name: str) -> bool:
    """Whether there is a file, to which no link leads."""
    file = place / name
    ways = (file, *file.parents[: len(PurePosixPath(name).parts) - 1])
    return file.is_file() and not any(one.is_symlink() for one in ways)
