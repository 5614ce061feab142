"""Writing a version's parts to a folder, byte for byte, over nothing that is there unless told so."""

import os
import secrets
import shutil
import stat
from collections.abc import Iterator
from contextlib import suppress
from pathlib import Path

from historon.errors import OutsideError, UsageError
from historon.estate import nearest
from historon.store import Member, Store, StoredPart, Version, read_tree

__all__ = ["write_version"]


def write_version(
    store: Store, version: Version, folder: Path, *, within: str | None = None, overwrite: bool = False
) -> list[tuple[Path, StoredPart]]:
    """Write a version, or its parts `within` this name, below the folder, each whole or not at all; returns the files.

    Where the version has the metadata of a tree, files get their permissions and times back, empty folders and links
    are made anew, and owners too when this user may. UsageError when nothing is `within`; OutsideError, before anything
    is written, when a file is there already and `overwrite` is false, or when a link would lead out of the folder.
    """
    within = within.rstrip("/") if within else None
    parts = _chosen(store, version, within)
    files = [folder.joinpath(*part.name.split("/")) for part in parts]
    for file in files:
        _check(file, folder, overwrite)
    try:
        for part, file in zip(parts, files, strict=True):
            file.parent.mkdir(mode=0o700, parents=True, exist_ok=True)
            _write(file, store.pieces(part), overwrite)
        members = [(name, one) for name, one in _members(store, version) if _wanted(name, within)]
        for name, member in sorted(
            members, key=lambda one: one[0], reverse=True
        ):  # what is inside a folder before the folder's own time
            _dress(folder.joinpath(*name.split("/")), member, folder)
    except OSError as exc:
        raise OutsideError(f"{exc.filename or folder}: {exc.strerror}", hint="check the folder and its space") from exc
    return list(zip(files, parts, strict=True))


def _chosen(store: Store, version: Version, name: str | None) -> list[StoredPart]:
    parts = store.parts(version.source, version.number)
    if name is None:
        return parts
    chosen = [part for part in parts if part.name == name or part.name.startswith(name + "/")]
    if not chosen:
        place = f"{version.source}@{version.number}"
        raise UsageError(f'{place} has no part "{name}"', hint=nearest(name, [part.name for part in parts]))
    return chosen


def _members(store: Store, version: Version) -> Iterator[tuple[str, Member]]:
    """The metadata of all trees of a version, with the name that each member has among the parts."""
    for part in store.parts(version.source, version.number):
        base, dot, suffix = part.name.rpartition(".")
        if part.name == "tree" or (dot and suffix == "tree"):
            for member in read_tree(store.read(part)):
                if any(piece in ("", ".", "..") for piece in member.name.split("/")):
                    continue
                yield (f"{base}/{member.name}" if base else member.name), member


def _wanted(name: str, within: str | None) -> bool:
    """Whether a member belongs to what was asked for, or is a folder above it."""
    return within is None or f"{name}/".startswith(f"{within}/") or f"{within}/".startswith(f"{name}/")


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
