"""A folder of this machine that sources put their exports into."""

from collections.abc import Mapping
from typing import ClassVar

from historon.estate.steps import Clauses
from historon.estate.transports.arriving import Arriving

__all__ = ["DropFolder", "Dropped"]

_SIGNS = ("renamed", "marker", "checksum", "size", "ends", "format")


class Dropped(Clauses, frozen=True, kw_only=True):
    """When a file is complete, and by what it is checked."""

    filled: ClassVar[tuple[str, ...]] = ("checksum",)
    needed: ClassVar[Mapping[str, str]] = {
        "complete": 'to know when a file is complete (add complete = "renamed" or another sign)'
    }
    complete: str = ""
    checksum: str | None = None

    def __post_init__(self) -> None:
        """A sign that is known."""
        if self.complete and self.complete.partition(":")[0] not in _SIGNS:
            raise ValueError(f'"{self.complete}" is not a sign of completeness (use {", ".join(_SIGNS)})')


class DropFolder(Arriving, frozen=True, kw_only=True):
    """`over = "drop-folder"`: files that arrive in `folder`."""

    over: ClassVar[str] = "drop-folder"
    module: ClassVar[str] = "drop_folder"
    on_network: ClassVar[bool] = False
    pulling: ClassVar[type[Clauses] | None] = Dropped
    needed: ClassVar[Mapping[str, str]] = {"folder": 'the folder (add folder = "/srv/drop")'}
