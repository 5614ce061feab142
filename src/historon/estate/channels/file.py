"""A file."""

from typing import ClassVar

from historon.estate.channels.channel import Channel

__all__ = ["FileChannel"]


class FileChannel(Channel, frozen=True, kw_only=True):
    """A file that gets one JSON object a line for each notice."""

    kind: ClassVar[str] = "file"

    path: str

    @property
    def goes_to(self) -> str:
        """See Channel."""
        return self.path

    @property
    def writes_to(self) -> str | None:
        """See Channel."""
        return self.path
