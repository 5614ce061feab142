"""Writing a version's parts to a folder, byte for byte, over nothing that is there unless asked to."""

import hashlib
import os
import stat
import tempfile
from collections.abc import Iterator, Mapping, Sequence
from contextlib import suppress
from dataclasses import dataclass, field
from datetime import datetime
from itertools import chain
from pathlib import Path

from historon.base.errors import OutsideError, UsageError
from historon.base.folders import Below
from historon.base.quantities import in_names
from historon.compare import ArchiveError, area_of, is_archive, section_of, unpacked
from historon.estate import nearest
from historon.restore.dressing import as_file, differences, dress_folder, dressed, target_of
from historon.store import Member, Store, StoredPart, TreeRecord, Version, raw_name, read_tree
from historon.versions import Masks, comparable, is_binary, is_called, too_large

__all__ = ["Naming", "Restored", "members_of", "wanted_parts", "write_version"]


@dataclass
class Restored:
    """What was written, each file with its size in bytes, what was there already byte for byte, and what was left out.

    Why something was left out is said in words.
    """

    files: list[tuple[Path, int]] = field(default_factory=list)
    already: list[Path] = field(default_factory=list)
    left_out: list[str] = field(default_factory=list)


@dataclass(frozen=True)
class Naming:
    """What parts are called where they are written.

    Only those `inside` a part, or a folder of parts, are meant, without its name; a `single` one is called this then.
    With `at` each name bears the instant: `running-2026-06-14T003000Z.cfg`. `below` is a folder that all are put into.
    """

    inside: str = ""
    single: str | None = None
    at: datetime | None = None
    below: str = ""

    def name(self, part: str, *, dated: bool = True) -> str | None:
        """What a part is called; None for one that is not meant. Without `dated`, as of a folder, it has no instant."""
        named = part
        if self.inside:
            if part == self.inside:
                named = self.single or ""
            else:
                named = part.removeprefix(f"{self.inside}/") if part.startswith(f"{self.inside}/") else ""
        if not named:
            return None
        if self.at is not None and dated:
            folder, slash, last = named.rpartition("/")
            stem, dot, kind = last.partition(".") if not last.startswith(".") else (last, "", "")
            named = f"{folder}{slash}{stem}-{in_names(self.at)}{dot}{kind}"
        return f"{self.below}/{named}" if self.below else named


@dataclass(frozen=True)
class _Wanted:
    """A file that is to be there, with these bytes, and what it was besides."""

    name: str
    size: int
    sha256: bytes
    pieces: Iterator[bytes]
    member: Member | None = None

    def is_there(self, below: Below, *, permissions: bool) -> bool:
        """Whether it is there already, byte for byte, and with the permissions that are to be given back."""
        found = below.stat(self.name)
        if found is None or not stat.S_ISREG(found.st_mode) or found.st_size != self.size:
            return False
        if permissions and self.member is not None and any(differences(self.member, found, times=False)):
            return False
        try:
            with below.opened(self.name) as file:
                return hashlib.file_digest(file, "sha256").digest() == self.sha256
        except OSError:
            return False


def write_version(
    store: Store,
    version: Version,
    folder: Path,
    masks: Masks,
    *,
    only: Sequence[str] = (),
    overwrite: bool = False,
    missing: bool = False,
    permissions: bool = False,
    outward_links: bool = False,
    naming: Naming | None = None,
) -> Restored:
    """Write a version below the folder, each file whole or not at all, readable by this user alone.

    `only` narrows it to parts, folders of parts, parts by a pattern (fnmatch), or to what stands under these places in
    the outline of its texts, as `masks` see it. Where the version has the metadata of a tree, files get their times
    back, and empty folders and links are made again; with `permissions` modes too, and owners where this user may give
    them; links that lead out of the folder only with `outward_links`. A file that is there with these very bytes is
    left as it is, so that one that was killed is made up for; with `missing` all that is there is left as it is.
    UsageError when there is nothing like `only`; OutsideError, before anything is written, when another file is there
    and `overwrite` is false, when a link would lead out of the folder, or when a part has a name that no file can
    have. `naming` says what the files are called, if not as the parts.
    """
    parts = store.parts(version.source, version.number)
    whole, sections = _chosen(store, version, parts, masks, only)
    called = naming or Naming()
    members = [(name, one) for name, one in members_of(store, parts) if _is_meant(name, only, sections)]
    known = dict(members)
    files: list[_Wanted] = []
    for part in whole:
        name = called.name(part.name)
        if name is not None:
            member = known.get(part.name)
            files.append(_Wanted(_file(name), part.size, part.sha256, store.pieces(part), member))
    for part_name, text in sections.items():
        name = called.name(part_name)
        if name is not None:
            files.append(_Wanted(_file(name), len(text), hashlib.sha256(text).digest(), iter([text])))
    named = [
        (_file(told), member)
        for name, member in members
        if (told := called.name(name, dated=stat.S_ISREG(member.mode))) is not None
    ]
    try:
        return _written(files, named, folder, _How(overwrite, missing, permissions, outward_links))
    except OSError as exc:
        raise OutsideError(
            f"{exc.filename or folder}: {exc.strerror}", hint="check the folder and its free space"
        ) from exc


@dataclass(frozen=True)
class _How:
    """How a version is written: over what is there, only what is missing, and what of a tree's metadata."""

    overwrite: bool
    missing: bool
    permissions: bool
    outward_links: bool


def _is_meant(name: str, only: Sequence[str], sections: Mapping[str, bytes]) -> bool:
    """Whether a member belongs to what was asked for, or is a folder above it."""
    if sections:
        return False
    return not only or any(is_called(name, one) or f"{one}/".startswith(f"{name}/") for one in only)


def _chosen(
    store: Store, version: Version, parts: Sequence[StoredPart], masks: Masks, only: Sequence[str]
) -> tuple[list[StoredPart], dict[str, bytes]]:
    """The parts that are meant, and else members of archives, or sections and areas of texts.

    UsageError when one of them is none of these.
    """
    if not only:
        return list(parts), {}
    whole: dict[str, StoredPart] = {}
    sections: dict[str, bytes] = {}
    for one in only:
        called = {part.name: part for part in parts if is_called(part.name, one)}
        found = {} if called else _archived(store, parts, one) or _sections(store, parts, one, masks)
        if not called and not found:
            place, names = f"{version.source}@{version.number}", [part.name for part in parts]
            raise UsageError(
                f'{place} has no part, no member of an archive and no place in a text called "{one}"',
                hint=nearest(str(one), names),
            )
        whole |= called
        for name, text in found.items():
            sections[name] = sections.get(name, b"") + text
    return [part for part in parts if part.name in whole], {
        name: text for name, text in sections.items() if name not in whole
    }


def wanted_parts(
    store: Store, version: Version, masks: Masks, only: Sequence[str]
) -> Iterator[tuple[str, int, Iterator[bytes]]]:
    """What `write_version` would write: the name of each part, its size, and what it holds, a piece at a time."""
    whole, sections = _chosen(store, version, store.parts(version.source, version.number), masks, only)
    for part in whole:
        yield part.name, part.size, store.pieces(part)
    for name, text in sections.items():
        yield name, len(text), iter([text])


def _written(files: Sequence[_Wanted], members: Sequence[tuple[str, Member]], folder: Path, how: _How) -> Restored:
    """Write those that are not there yet, once nothing stands in the way of any; then folders and links."""
    already = _already_there(files, folder, how)
    restored = Restored(already=[folder / name for name in sorted(already)])
    with Below(folder, make=True) as below:
        for one in files:
            if one.name in already:
                _dress_file(below, one, how)
                continue
            dress = dressed(one.member, permissions=how.permissions)
            try:
                below.write(one.name, one.pieces, dress, over=how.overwrite)
            except FileExistsError as exc:
                message = f"{folder / one.name} was created while this ran, and was not replaced"
                raise OutsideError(message, hint="look at it; then restore again") from exc
            restored.files.append((folder / one.name, one.size))
        # What is inside a folder comes before the folder's own time.
        for name, member in sorted(members, key=lambda each: each[0], reverse=True):
            if stat.S_ISLNK(member.mode) and (why := _link(below, name, member, how)):
                restored.left_out.append(why)
        for name, member in sorted(members, key=lambda each: each[0], reverse=True):
            if stat.S_ISDIR(member.mode):
                below.make_folder(name)
                dress_folder(below, name, member, permissions=how.permissions)
    return restored


def _already_there(files: Sequence[_Wanted], folder: Path, how: _How) -> set[str]:
    """The names of those that are left as they are. OutsideError where something stands in the way of another."""
    already: set[str] = set()
    with suppress(FileNotFoundError), Below(folder) as there:
        for one in files:
            found = there.stat(one.name)
            if found is not None and (how.missing or one.is_there(there, permissions=how.permissions)):
                already.add(one.name)
            elif found is not None:
                _check(found, folder / one.name, overwrite=how.overwrite)
    return already


def _dress_file(below: Below, one: _Wanted, how: _How) -> None:
    """Give a file that is there already its time back."""
    below.clear(one.name)
    if one.member is None or how.missing:
        return
    seconds = one.member.at.timestamp()
    with below.opened(one.name) as file, suppress(PermissionError):
        os.utime(file.fileno(), (seconds, seconds))


def _link(below: Below, name: str, member: Member, how: _How) -> str:
    """Make a link where there is none; why it was left out, in words."""
    place = below.folder / name
    if member.target is None:
        return f"{place}: its target is unknown"
    found = below.stat(name)
    if found is not None and not (how.overwrite and stat.S_ISLNK(found.st_mode)):
        return ""
    target = target_of(member)
    inside = Path(os.path.normpath(place.parent / target)).is_relative_to(os.path.normpath(below.folder))
    if not how.outward_links and (os.path.isabs(target) or not inside):
        return f"{place}: a link that leads out of the folder"
    if found is None or below.target(name) != target:
        below.link(name, target)
    return ""


def _check(found: os.stat_result, file: Path, *, overwrite: bool) -> None:
    if not overwrite:
        raise OutsideError(
            f"{file} already exists; nothing was written", hint="add --overwrite, or restore to another folder"
        )
    if stat.S_ISDIR(found.st_mode):
        raise OutsideError(f"{file} is a folder; nothing was written", hint="restore to another folder")


def _file(name: str) -> str:
    """What a part is called as a file, with the very bytes of its name. OutsideError when no file can be called so."""
    pieces = raw_name(name).split(b"/")
    if any(piece in (b"", b".", b"..") or b"\0" in piece for piece in pieces):
        raise OutsideError(
            f'no file can have the name of the part "{name}"; nothing was written',
            hint="write it with historon show SOURCE PART > FILE",
        )
    return as_file(name)


def _archived(store: Store, parts: Sequence[StoredPart], only: str) -> dict[str, bytes]:
    """The members of archives that are meant, below the archives' names. OutsideError where one cannot be opened."""
    found: dict[str, bytes] = {}
    for part in parts:
        if not only.startswith(f"{part.name}/"):
            continue
        pieces = store.pieces(part)
        head = next(pieces, b"")
        if not is_archive(head):
            continue
        with tempfile.TemporaryFile() as file:
            file.writelines(chain([head], pieces))
            try:
                members = unpacked(part.name, file)
            except ArchiveError as exc:
                raise OutsideError(f"{part.name} {exc}", hint="restore the archive itself: --only its name") from exc
        for name, content in members.items():
            if not isinstance(content, TreeRecord) and is_called(name, only):
                if too_large(content):
                    hint = f"restore the archive itself: --only {part.name}"
                    raise OutsideError(f"{name} is too large to be extracted from its archive", hint=hint)
                found[name] = content
    return found


def _sections(store: Store, parts: Sequence[StoredPart], place: str, masks: Masks) -> dict[str, bytes]:
    """What stands under this place in the outline of each part that is text, or at it in a document."""
    contents = {part.name: comparable(part, store) for part in parts}
    texts = {name: content for name, content in contents.items() if not is_binary(content)}
    areas = {name: area_of(content, place) for name, content in texts.items()}
    if not any(areas.values()):
        areas = {name: section_of(content, place, masks.outline) for name, content in texts.items()}
    return {name: area for name, area in areas.items() if area}


def members_of(store: Store, parts: Sequence[StoredPart]) -> Iterator[tuple[str, Member]]:
    """The metadata of all trees of a version, with the name that each member has among the parts.

    Only what Historon wrote itself is metadata, whatever a part is called.
    """
    for part in parts:
        if part.is_tree:
            base = part.name.removesuffix("tree").removesuffix(".")
            for member in read_tree(store.read(part)):
                if not any(piece in ("", ".", "..") for piece in member.name.split("/")):
                    yield (f"{base}/{member.name}" if base else member.name), member
