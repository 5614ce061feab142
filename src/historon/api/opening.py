"""Opening an estate: which file is meant, and the door to it."""

from collections.abc import Callable
from datetime import UTC, datetime
from pathlib import Path

from historon.api.front import Historon
from historon.errors import OutsideError
from historon.estate import ESTATE_FILE, read_estate

__all__ = ["find_estate_file", "open_estate"]


def _now() -> datetime:
    return datetime.now(UTC)


def open_estate(path: str | Path | None = None, *, clock: Callable[[], datetime] = _now) -> Historon:
    """The estate that a file, or the folder it is in, describes; its store is opened when it is first needed.

    Without a path it is the nearest `historon.toml` from this folder upwards. `clock` tells the time (UTC) that ages
    and new versions go by. Raises EstateError when the file is not there or has mistakes; StoreError and UsageError
    come from what is asked of it then. Used in a `with` block it is closed at the end of it.

        with historon.open("estate") as estate:
            print(estate.versions("edge-1"))
    """
    return Historon(read_estate(find_estate_file(path)), clock=clock)


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
