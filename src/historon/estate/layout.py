"""Laying out a new estate: a folder with a commented estate file, private to its owner."""

import os
import secrets
from importlib.resources import files
from pathlib import Path

from historon.base.disk import write_through
from historon.base.errors import OutsideError

__all__ = ["ESTATE_FILE", "lay_out", "replace_file", "write_private"]

ESTATE_FILE = "historon.toml"


def lay_out(folder: Path, text: str | None = None) -> list[Path]:
    """Create `historon.toml`, `keys/` and `store/` in the folder; returns what was made.

    `text` replaces the commented template. OutsideError when any of them is there already: nothing is touched then.
    """
    wanted = [folder / ESTATE_FILE, folder / "keys", folder / "store"]
    for path in wanted:
        if path.exists() or path.is_symlink():
            raise OutsideError(f"{path} already exists; nothing was changed", hint="choose another folder")
    template = files("historon.estate").joinpath("template.toml").read_text(encoding="utf-8")
    try:
        folder.mkdir(mode=0o700, parents=True, exist_ok=True)
        for path in wanted[1:]:
            path.mkdir(mode=0o700)
        write_private(wanted[0], (template if text is None else text).encode())
    except OSError as exc:
        raise OutsideError(f"{folder}: {exc.strerror or exc}", hint="check the folder and its permissions") from exc
    return wanted


def write_private(path: Path, content: bytes) -> None:
    """Create a file with mode 0600; OSError when it exists or cannot be written."""
    with open(os.open(path, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600), "wb") as file:
        file.write(content)


def replace_file(path: Path, content: bytes) -> None:
    """Put new content in the place of a file, whole or not at all, with the mode it had."""
    temporary = path.with_name(f".{path.name}.{secrets.token_hex(6)}")
    try:
        write_through(temporary, [content])
        if path.exists():
            temporary.chmod(path.stat().st_mode & 0o777)
        temporary.replace(path)
    except OSError as exc:
        raise OutsideError(f"{path}: {exc.strerror or exc}", hint="check the file and its folder") from exc
    finally:
        temporary.unlink(missing_ok=True)
