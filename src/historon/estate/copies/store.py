"""A copy that is a whole store."""

from typing import ClassVar

from historon.estate.copies.copy import FarCopy

__all__ = ["StoreCopy"]


class StoreCopy(FarCopy, frozen=True, kw_only=True):
    """`kind = "store"`: a whole store in a folder; on a server as objects, as in a bucket."""

    kind: ClassVar[str] = "store"
    carries_settings: ClassVar[bool] = True

    retention: str | None = None

    def __post_init__(self) -> None:
        """A store in a folder is brought up to date in one step, and holds what the store holds."""
        super().__post_init__()
        if self.retention is not None and self.server is None:
            raise ValueError("a store in a folder has no retention of its own (remove it)")
