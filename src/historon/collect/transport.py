"""What a transport is: a way to open a session on a source, in which steps can be taken."""

from abc import ABC, abstractmethod
from collections.abc import Awaitable, Callable, Sequence
from dataclasses import dataclass
from pathlib import Path

from historon.collect.failures import CollectError, FailureKind
from historon.estate import Procedure, Secret, Source
from historon.store import Part

__all__ = ["Account", "CommandSession", "Session", "Target"]

_TAIL = 2000
_CHUNK = 65536


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


class CommandSession(Session):
    """What sessions have in common in which every command has its output and its end, and files can be pulled."""

    def __init__(self, target: Target) -> None:
        super().__init__()
        self._max_size = target.procedure.max_size
        self._tail = b""

    @property
    def tail(self) -> bytes:
        """See Session."""
        return self._tail

    async def _drain(self, read: Callable[[int], Awaitable[bytes]]) -> bytes:
        """All that a stream gives, up to the size limit."""
        received = bytearray()
        while chunk := await read(_CHUNK):
            received += chunk
            self._tail = bytes(received[-_TAIL:])
            if len(received) > self._max_size:
                raise CollectError(FailureKind.TOO_LARGE, f"it prints more than {self._max_size} bytes", tail=self.tail)
        return bytes(received)

    def _ended(self, what: str, code: int, printed: bytes, complaints: bytes) -> CollectError:
        """A command that ended with another exit code than 0."""
        tail = complaints[-_TAIL:] or printed[-_TAIL:]
        return CollectError(FailureKind.STEP, f"{what} ended with exit code {code}", tail=tail)

    def _leave_out(self, count: int, base: str) -> None:
        """Remark that some of a folder is no part of the export."""
        if count:
            self.remarks.append(f"{count} left out of {base}: links, sockets or devices")
