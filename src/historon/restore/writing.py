"""Writing a version's parts to a folder, byte for byte, over nothing that is there unless told so."""

import hashlib
import os
import shutil
import stat
import tempfile
from collections.abc import Iterator, Sequence
from contextlib import suppress
from dataclasses import dataclass, field
from datetime import datetime
from itertools import chain
from pathlib import Path

from historon.compare import ArchiveError, area_of, is_archive, section_of, unpacked
from historon.disk import write_through
from historon.errors import OutsideError, UsageError
from historon.estate import nearest
from historon.store import Member, Store, StoredPart, Version, is_tree_name, raw_name, read_tree
from historon.times import in_names
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
class _Way:
    """How a version is written: below which folder, and what of its tree's metadata is given back."""

    folder: Path
    overwrite: bool
    permissions: bool
    outward_links: bool


@dataclass(frozen=True)
class _Wanted:
    """A file that is to be there, with these bytes."""

    file: Path
    size: int
    sha256: bytes
    pieces: Iterator[bytes]

    def is_there(self) -> bool:
        """Whether it is there already, byte for byte."""
        try:
            found = self.file.lstat()
            if not stat.S_ISREG(found.st_mode) or found.st_size != self.size:
                return False
            with self.file.open("rb") as file:
                return hashlib.file_digest(file, "sha256").digest() == self.sha256
        except (FileNotFoundError, NotADirectoryError, PermissionError):
            return False


def write_version(
    store: Store,
    version: Version,
    folder: Path,
    masks: Masks,
    *,
    only: str | None = None,
    overwrite: bool = False,
    permissions: bool = False,
    outward_links: bool = False,
    naming: Naming | None = None,
) -> Restored:
    """Write a version below the folder, each file whole or not at all, readable by this user alone.

    `only` narrows it to a part, a folder of parts, parts by a pattern (fnmatch), or to what stands under this place in
    the outline of its texts, as `masks` see it. Where the version has the metadata of a tree, files get their times
    back, and empty folders and links are made anew; with `permissions` modes too, and owners where this user may give
    them; links that lead out of the folder only with `outward_links`. A file that is there with these very bytes is
    left as it is, so that one that was killed is made up for. UsageError when there is nothing like `only`;
    OutsideError, before anything is written, when another file is there and `overwrite` is false, when a link would
    lead out of the folder, or when a part has a name that no file can have. `naming` says what the files are called,
    if not as the parts.
    """
    parts = store.parts(version.source, version.number)
    whole, sections = _chosen(store, version, parts, masks, only)
    way = _Way(folder, overwrite, permissions, outward_links)
    called = naming or Naming()
    files: list[_Wanted] = []
    for part in whole:
        name = called.name(part.name)
        if name is not None:
            files.append(_Wanted(_file(folder, name), part.size, part.sha256, store.pieces(part)))
    for part_name, text in sections.items():
        name = called.name(part_name)
        if name is not None:
            files.append(_Wanted(_file(folder, name), len(text), hashlib.sha256(text).digest(), iter([text])))
    try:
        restored = _written(files, folder, overwrite=overwrite)
        members = [(name, one) for name, one in members_of(store, parts) if not sections and _wanted(name, only)]
        # What is inside a folder comes before the folder's own time.
        for name, member in sorted(members, key=lambda one: one[0], reverse=True):
            told = called.name(name, dated=stat.S_ISREG(member.mode))
            if told is not None and (why := _dress(_file(folder, told), member, way)):
                restored.left_out.append(why)
    except OSError as exc:
        raise OutsideError(f"{exc.filename or folder}: {exc.strerror}", hint="check the folder and its space") from exc
    return restored


def _chosen(
    store: Store, version: Version, parts: Sequence[StoredPart], masks: Masks, only: str | None
) -> tuple[list[StoredPart], dict[str, bytes]]:
    """The parts that are meant, or else members of archives, or sections and areas of texts.

    UsageError when there is none of these.
    """
    whole = [part for part in parts if only is None or is_called(part.name, only)]
    if whole or only is None:
        return whole, {}
    found = _archived(store, parts, only) or _sections(store, parts, only, masks)
    if not found:
        place, names = f"{version.source}@{version.number}", [part.name for part in parts]
        raise UsageError(
            f'in {place} neither a part, nor a member of an archive, nor a place in a text is "{only}"',
            hint=nearest(str(only), names),
        )
    return whole, found


def wanted_parts(
    store: Store, version: Version, masks: Masks, only: str | None
) -> Iterator[tuple[str, int, Iterator[bytes]]]:
    """What `write_version` would write: the name of each part, its size, and what it holds, a piece at a time."""
    whole, sections = _chosen(store, version, store.parts(version.source, version.number), masks, only)
    for part in whole:
        yield part.name, part.size, store.pieces(part)
    for name, text in sections.items():
        yield name, len(text), iter([text])


def _written(files: Sequence[_Wanted], folder: Path, *, overwrite: bool) -> Restored:
    """Write those that are not there yet, once nothing stands in the way of any."""
    already = {one.file for one in files if one.is_there()}
    for one in files:
        _check(one.file, folder, overwrite or one.file in already)
    restored = Restored([(one.file, one.size) for one in files if one.file not in already], sorted(already))
    for one in files:
        if one.file in already:
            _clear(one.file)
        else:
            _make_folder(one.file.parent)
            _write(one.file, one.pieces, overwrite)
    return restored


def _file(folder: Path, name: str) -> Path:
    """Where a part is written, under the very bytes of its name. OutsideError when no file below a folder has it."""
    pieces = raw_name(name).split(b"/")
    if any(piece in (b"", b".", b"..") or b"\0" in piece for piece in pieces):
        raise OutsideError(
            f'no file can have the name of the part "{name}"; nothing was written',
            hint="write it with historon show SOURCE PART > FILE",
        )
    return folder.joinpath(*map(os.fsdecode, pieces))


def _make_folder(folder: Path) -> None:
    """Make a folder and those above it, all of them for this user alone."""
    missing = [one for one in (folder, *folder.parents) if not one.exists()]
    for one in reversed(missing):
        one.mkdir(mode=0o700, exist_ok=True)


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
            if not is_tree_name(name) and is_called(name, only):
                if too_large(content):
                    hint = f"restore the archive itself: --only {part.name}"
                    raise OutsideError(f"{name} is too large to be taken out of its archive", hint=hint)
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


def _wanted(name: str, only: str | None) -> bool:
    """Whether a member belongs to what was asked for, or is a folder above it."""
    return only is None or is_called(name, only) or f"{only}/".startswith(f"{name}/")


def _dress(path: Path, member: Member, way: _Way) -> str:
    """Give a member its metadata back; a folder or link is made where it is missing. Why it was left out, in words."""
    _check_way(path, way.folder)
    if stat.S_ISLNK(member.mode):
        return _link(path, member, way)
    if stat.S_ISDIR(member.mode):
        _make_folder(path)
    if path.is_symlink() or not path.exists():
        return ""
    if way.permissions:
        path.chmod(stat.S_IMODE(member.mode) & 0o777)
        user, _, group = member.owner.partition(":")
        with suppress(OSError, LookupError):  # only the superuser may, and only where these users are known
            shutil.chown(path, _id(user), _id(group))
    seconds = member.at.timestamp()
    os.utime(path, (seconds, seconds), follow_symlinks=False)
    return ""


def _link(path: Path, member: Member, way: _Way) -> str:
    if member.target is None:
        return f"{path}: where it leads is not known"
    if path.is_symlink() or path.exists():
        return ""
    target = os.fsdecode(raw_name(member.target))
    inside = Path(os.path.normpath(path.parent / target)).is_relative_to(os.path.normpath(way.folder))
    if not way.outward_links and (os.path.isabs(target) or not inside):
        return f"{path}: a link that leads out of the folder"
    _make_folder(path.parent)
    path.symlink_to(target)
    seconds = member.at.timestamp()
    os.utime(path, (seconds, seconds), follow_symlinks=False)
    return ""


def _id(name: str) -> int | str:
    return int(name) if name.isdecimal() else name


def _check(file: Path, folder: Path, overwrite: bool) -> None:
    if (file.exists() or file.is_symlink()) and not overwrite:
        raise OutsideError(f"{file} is there already; nothing was written", hint="--overwrite, or another --to folder")
    if file.is_dir():
        raise OutsideError(f"{file} is a folder; nothing was written", hint="restore to another folder")
    _check_way(file, folder)


def _check_way(file: Path, folder: Path) -> None:
    for parent in file.parents:
        if parent == folder:
            break
        if parent.is_symlink():
            raise OutsideError(f"{parent} is a link; nothing was written", hint="restore to another folder")


def _write(file: Path, pieces: Iterator[bytes], overwrite: bool) -> None:
    """Through a temporary file beside it, as it must never be half written."""
    _clear(file)
    temporary = _beside(file, str(os.getpid()))
    try:
        write_through(temporary, pieces)
        if overwrite:
            temporary.replace(file)
        else:
            os.link(temporary, file)  # unlike a rename, it fails when the name was taken in the meantime
    finally:
        temporary.unlink(missing_ok=True)


def _beside(file: Path, process: str) -> Path:
    """What a file is called while it is written; the name says by whom."""
    short = hashlib.sha256(os.fsencode(file.name)).hexdigest()[:16]
    return file.with_name(f".historon-{short}-{process}")


def _clear(file: Path) -> None:
    """Remove what a restore left that was killed while it wrote this file."""
    for left in file.parent.glob(_beside(file, "*").name):
        process = left.name.rpartition("-")[2]
        if not process.isdecimal() or int(process) == os.getpid() or not Path(f"/proc/{process}").exists():
            left.unlink(missing_ok=True)
