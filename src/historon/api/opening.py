"""Opening an estate: which file is meant, and the door to it."""

from collections.abc import Callable
from datetime import UTC, datetime
from pathlib import Path

from historon.api.estate import Estate
from historon.base.errors import OutsideError
from historon.estate import ESTATE_FILE, read_estate

__all__ = ["find_estate_file", "open_estate"]


def _now() -> datetime:
    return datetime.now(UTC)


def open_estate(path: str | Path | None = None, *, clock: Callable[[], datetime] = _now) -> Estate:
    """Open the estate of a file, or of the folder that holds it; the store is opened when it is first needed.

    Without a path: the nearest `historon.toml` from the current folder upwards. `clock` returns the current instant
    (UTC), by which ages are calculated and new versions are dated. Raises EstateError when the file is missing or has
    mistakes. A `with` block closes it at its end.

        with historon.open("estate") as estate:
            print(estate.source("edge-1").versions())
    """
    return Estate(read_estate(find_estate_file(path)), clock=clock)


def find_estate_file(named: str | Path | None = None) -> Path:
    """The file that is named, itself or by its folder, else the nearest one from this folder upwards."""
    if named:
        path = Path(named)
        return path / ESTATE_FILE if path.is_dir() else path
    try:
        here = Path.cwd()
    except OSError as exc:
        message = "the current folder no longer exists"
        raise OutsideError(message, hint="change to another folder, or name the estate: --estate FILE") from exc
    found = (folder / ESTATE_FILE for folder in (here, *here.parents))
    return next((file for file in found if file.is_file()), here / ESTATE_FILE)
