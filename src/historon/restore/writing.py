"""Writing a version's parts to a folder, byte for byte, over nothing that is there unless told so."""

import os
import secrets
import shutil
import stat
from collections.abc import Iterator, Sequence
from contextlib import suppress
from pathlib import Path

from historon.compare import Masks, comparable, is_binary, is_called, section_of
from historon.errors import OutsideError, UsageError
from historon.estate import nearest
from historon.store import Member, Store, StoredPart, Version, read_tree

__all__ = ["write_version"]


def write_version(
    store: Store, version: Version, folder: Path, masks: Masks, *, only: str | None = None, overwrite: bool = False
) -> list[tuple[Path, int]]:
    """Write a version below the folder, each file whole or not at all; returns the files and their sizes in bytes.

    `only` narrows it to a part, a folder of parts, parts by a pattern (fnmatch), or to what stands under this place in
    the outline of its texts, as `masks` see it. Where the version has the metadata of a tree, files get their
    permissions and times back, empty folders and links are made anew, and owners too when this user may. UsageError
    when there is nothing like `only`; OutsideError, before anything is written, when a file is there already and
    `overwrite` is false, or when a link would lead out of the folder.
    """
    parts = store.parts(version.source, version.number)
    whole = [part for part in parts if only is None or is_called(part.name, only)]
    sections = _sections(store, parts, only, masks) if only is not None and not whole else {}
    if not whole and not sections:
        place, names = f"{version.source}@{version.number}", [part.name for part in parts]
        raise UsageError(
            f'in {place} neither a part nor a place in the outline is "{only}"', hint=nearest(str(only), names)
        )
    files = [(_file(folder, part.name), part.size, store.pieces(part)) for part in whole]
    files += [(_file(folder, name), len(text), iter([text])) for name, text in sections.items()]
    for file, _, _ in files:
        _check(file, folder, overwrite)
    try:
        for file, _, pieces in files:
            file.parent.mkdir(mode=0o700, parents=True, exist_ok=True)
            _write(file, pieces, overwrite)
        members = [(name, one) for name, one in _members(store, version) if not sections and _wanted(name, only)]
        for name, member in sorted(
            members, key=lambda one: one[0], reverse=True
        ):  # what is inside a folder before the folder's own time
            _dress(folder.joinpath(*name.split("/")), member, folder)
    except OSError as exc:
        raise OutsideError(f"{exc.filename or folder}: {exc.strerror}", hint="check the folder and its space") from exc
    return [(file, size) for file, size, _ in files]


def _file(folder: Path, name: str) -> Path:
    return folder.joinpath(*name.split("/"))


def _sections(store: Store, parts: Sequence[StoredPart], place: str, masks: Masks) -> dict[str, bytes]:
    """What stands under this place in the outline of each part that is text."""
    contents = {part.name: comparable(part, store) for part in parts}
    texts = {name: content for name, content in contents.items() if not is_binary(content)}
    found = {name: section_of(content, place, masks.outline) for name, content in texts.items()}
    return {name: section for name, section in found.items() if section}


def _members(store: Store, version: Version) -> Iterator[tuple[str, Member]]:
    """The metadata of all trees of a version, with the name that each member has among the parts."""
    for part in store.parts(version.source, version.number):
        base, dot, suffix = part.name.rpartition(".")
        if part.name == "tree" or (dot and suffix == "tree"):
            for member in read_tree(store.read(part)):
                if any(piece in ("", ".", "..") for piece in member.name.split("/")):
                    continue
                yield (f"{base}/{member.name}" if base else member.name), member


def _wanted(name: str, only: str | None) -> bool:
    """Whether a member belongs to what was asked for, or is a folder above it."""
    return only is None or is_called(name, only) or f"{only}/".startswith(f"{name}/")


def _dress(path: Path, member: Member, folder: Path) -> None:
    """Give a member its metadata back; a folder or link is made where it is missing."""
    _check_way(path, folder)
    if stat.S_ISLNK(member.mode) and member.target is None:
        return
    if stat.S_ISDIR(member.mode):
        path.mkdir(mode=0o700, parents=True, exist_ok=True)
    if member.target is not None:
        path.parent.mkdir(mode=0o700, parents=True, exist_ok=True)
        if not path.is_symlink() and not path.exists():
            path.symlink_to(member.target)
    elif path.is_symlink():
        return
    else:
        path.chmod(stat.S_IMODE(member.mode) & 0o777)
    seconds = member.at.timestamp()
    os.utime(path, (seconds, seconds), follow_symlinks=False)
    user, _, group = member.owner.partition(":")
    with suppress(OSError, LookupError):  # only the superuser may, and only where these users are known
        shutil.chown(path, _id(user), _id(group)) if not path.is_symlink() else None


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
    temporary = file.with_name(f".{file.name[:100]}.{secrets.token_hex(6)}")
    try:
        with open(os.open(temporary, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600), "wb") as out:
            out.writelines(pieces)
            out.flush()
            os.fsync(out.fileno())
        if overwrite:
            temporary.replace(file)
        else:
            os.link(temporary, file)  # unlike a rename, it fails when the name was taken in the meantime
    finally:
        temporary.unlink(missing_ok=True)
