"""What a transport is: a way to open a session on a source, in which steps can be taken."""

from abc import ABC, abstractmethod
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

from historon.estate import Procedure, Secret, Source
from historon.store import Part

__all__ = ["Account", "Session", "Target"]


@dataclass(frozen=True)
class Account:
    """Credentials with their secrets fetched; never logged, never shown."""

    user: str
    password: Secret | None = None
    key: Secret | None = None
    passphrase: Secret | None = None


@dataclass(frozen=True)
class Target:
    """A source with all that is needed to reach it. Relative paths start at `folder`."""

    source: Source
    procedure: Procedure
    account: Account | None
    folder: Path


class Session(ABC):
    """An open conversation with a source. Every call raises CollectError, with what came back as its tail.

    `remarks` collects what somebody should know of a good export all the same; `place` is the step being taken.
    """

    def __init__(self) -> None:
        self.remarks: list[str] = []
        self.place = ""

    @abstractmethod
    async def say(self, what: str | Sequence[str]) -> bytes:
        """Say something and return the whole answer."""

    @abstractmethod
    async def pull(self, path: str, name: str | None) -> list[Part]:
        """Fetch a file, or a folder with all that is in it, as parts called after `name`."""

    @property
    @abstractmethod
    def tail(self) -> bytes:
        """The end of what came back so far, for a message about a step that did not end."""
