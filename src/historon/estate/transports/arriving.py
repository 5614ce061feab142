"""What transports share whose exports come by themselves."""

from typing import ClassVar, Literal

from historon.estate.procedures import Procedure
from historon.estate.steps import Clauses

__all__ = ["Arriving"]


class Arriving(Procedure, frozen=True, kw_only=True):
    """Where exports arrive, which of them are taken, and what becomes of one that was."""

    arriving: ClassVar[bool] = True
    asking: ClassVar[type[Clauses] | None] = None

    folder: str | None = None
    then: Literal["keep", "move", "remove"] = "keep"
    move_to: str = "taken"
    take: Literal["all", "newest"] = "all"

    def __post_init__(self) -> None:
        """Keys that mean nothing without another."""
        super().__post_init__()
        if self.then != "move" and self.move_to != "taken":
            raise ValueError('move_to moves nothing (set then = "move", or remove it)')

    @property
    def place(self) -> str:
        """See Procedure."""
        return self.folder or ""

    @property
    def moves_to(self) -> str | None:
        """See Procedure."""
        return None if self.then == "keep" else self.move_to
