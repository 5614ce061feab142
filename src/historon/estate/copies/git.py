"""A copy in a git repository."""

from typing import Annotated, ClassVar

from msgspec import Meta

from historon.estate.copies.copy import Copy

__all__ = ["GitCopy"]


class GitCopy(Copy, frozen=True, kw_only=True):
    """`kind = "git"`: a bare git repository, one commit a round.

    Sources lie in folders by the value of the label `folders_by`, and on branches by that of `branches_by`; those
    without that label are on `branch`.
    """

    kind: ClassVar[str] = "git"

    branch: Annotated[str, Meta(pattern=r"^[A-Za-z0-9][A-Za-z0-9._-]*$")] = "main"
    branches_by: str | None = None
    folders_by: str | None = None
    masked: bool = False
    push: str | None = None

    def __post_init__(self) -> None:
        """What git would take for one of its options is none of a remote's names."""
        if self.push is not None and self.push.startswith("-"):
            raise ValueError("push is the address, or the name, of a remote repository")

    @property
    def labels(self) -> tuple[str, ...]:
        """See Copy."""
        return tuple(filter(None, (self.branches_by, self.folders_by)))
