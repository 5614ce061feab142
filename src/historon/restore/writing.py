"""Writing a version's parts to a folder, byte for byte, over nothing that is there unless told so."""

import os
import secrets
from collections.abc import Sequence
from pathlib import Path

from historon.errors import OutsideError, UsageError
from historon.estate import nearest
from historon.store import Store, StoredPart, Version

__all__ = ["choose_parts", "write_version"]


def choose_parts(store: Store, version: Version, name: str | None = None) -> list[StoredPart]:
    """All parts of a version, the one called `name`, or those in the folder of that name. UsageError if none is."""
    parts = store.parts(version.source, version.number)
    if name is None:
        return parts
    chosen = [part for part in parts if part.name == name or part.name.startswith(name.rstrip("/") + "/")]
    if not chosen:
        place = f"{version.source}@{version.number}"
        raise UsageError(f'{place} has no part "{name}"', hint=nearest(name, [part.name for part in parts]))
    return chosen


def write_version(store: Store, parts: Sequence[StoredPart], folder: Path, *, overwrite: bool = False) -> list[Path]:
    """Write the parts below the folder, each whole or not at all; returns the files.

    OutsideError, before anything is written, when a file is there already and `overwrite` is false, or when a link
    would lead out of the folder.
    """
    files = [folder.joinpath(*part.name.split("/")) for part in parts]
    for file in files:
        _check(file, folder, overwrite)
    try:
        for part, file in zip(parts, files, strict=True):
            file.parent.mkdir(mode=0o700, parents=True, exist_ok=True)
            _write(file, store.read(part), overwrite)
    except OSError as exc:
        raise OutsideError(f"{exc.filename or folder}: {exc.strerror}", hint="check the folder and its space") from exc
    return files


def _check(file: Path, folder: Path, overwrite: bool) -> None:
    if (file.exists() or file.is_symlink()) and not overwrite:
        raise OutsideError(f"{file} is there already; nothing was written", hint="--overwrite, or another --to folder")
    if file.is_dir():
        raise OutsideError(f"{file} is a folder; nothing was written", hint="restore to another folder")
    for parent in file.parents:
        if parent == folder:
            break
        if parent.is_symlink():
            raise OutsideError(f"{parent} is a link; nothing was written", hint="restore to another folder")


def _write(file: Path, content: bytes, overwrite: bool) -> None:
    """Through a temporary file beside it, as it must never be half written."""
    temporary = file.with_name(f".{file.name[:100]}.{secrets.token_hex(6)}")
    try:
        with open(os.open(temporary, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600), "wb") as out:
            out.write(content)
            out.flush()
            os.fsync(out.fileno())
        if overwrite:
            temporary.replace(file)
        else:
            os.link(temporary, file)  # unlike a rename, it fails when the name was taken in the meantime
    finally:
        temporary.unlink(missing_ok=True)
