"""A program."""

from datetime import timedelta
from typing import ClassVar

from historon.estate.channels.channel import Channel
from historon.estate.durations import Duration

__all__ = ["CommandChannel"]


class CommandChannel(Channel, frozen=True, kw_only=True):
    """A program that is given the notice as JSON on its standard input."""

    kind: ClassVar[str] = "command"

    command: tuple[str, ...]
    deadline: Duration = Duration(seconds=30)

    def __post_init__(self) -> None:
        """A program to run."""
        if not self.command:
            raise ValueError("runs nothing (command is empty)")

    @property
    def goes_to(self) -> str:
        """See Channel."""
        return " ".join(self.command)

    @property
    def takes(self) -> timedelta:
        """See Channel."""
        return self.deadline
