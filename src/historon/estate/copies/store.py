"""A copy that is a whole store."""

from typing import ClassVar

from historon.estate.copies.copy import FarCopy

__all__ = ["StoreCopy"]


class StoreCopy(FarCopy, frozen=True, kw_only=True):
    """`kind = "store"`: a whole store in a folder; on a server as objects, as in a bucket."""

    kind: ClassVar[str] = "store"
    carries_settings: ClassVar[bool] = True

    retention: str | None = None
