"""What transports share that pull files of a folder."""

from typing import ClassVar

from historon.estate.steps import Clauses

__all__ = ["Choosing"]


class Choosing(Clauses, frozen=True, kw_only=True):
    """Which files of a folder are pulled, and by what one is checked."""

    filled: ClassVar[tuple[str, ...]] = ("include", "exclude", "checksum")
    include: tuple[str, ...] = ()
    exclude: tuple[str, ...] = ()
    checksum: str | None = None

    @property
    def narrows(self) -> bool:
        """See Clauses."""
        return bool(self.include or self.exclude)
