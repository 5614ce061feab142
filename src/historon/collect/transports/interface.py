"""What a transport is: a way to open a session on a source, in which steps can be taken."""

from collections.abc import Awaitable, Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from datetime import UTC, datetime, timedelta
from functools import cached_property
from pathlib import Path
from typing import Any, Generic, TypeVar

import msgspec

from historon.base.quantities import size_text
from historon.collect.failures import TAIL, CollectError, FailureKind
from historon.collect.identities import Shown
from historon.collect.transports.spooling import Spool
from historon.estate import Jump, Keeping, Procedure, Said, Secret, Source, Step
from historon.store import Part

__all__ = ["TAIL", "Account", "Answer", "Hop", "Origin", "Session", "Target"]

_CHUNK = 65536
P = TypeVar("P", bound=Procedure)


@dataclass(frozen=True)
class Account:
    """Credentials with their secrets fetched; never logged, never shown."""

    user: str
    password: Secret | None = None
    key: Secret | None = None
    passphrase: Secret | None = None
    elevation: Secret | None = None
    certificate: Path | None = None
    agent: bool = False


@dataclass(frozen=True)
class Hop:
    """A jump host with its account."""

    name: str
    jump: Jump
    account: Account


@dataclass(frozen=True)
class Target(Generic[P]):
    """A source with all that is needed to reach it; its procedure is of a transport, and `P` says of which.

    Relative paths start at `folder`; large answers rest in `spool`; `recall` says what an earlier round remembered,
    `clock` what time it is.
    """

    source: Source
    procedure: P
    account: Account | None
    folder: Path
    spool: Path
    recall: Callable[[str], str | None]
    clock: Callable[[], datetime]
    hop: Hop | None = None
    rivals: "Callable[[], Iterable[Target[P]]]" = tuple  # the other sources whose exports arrive in the same place
    shown: Shown = field(default_factory=Shown)  # filled in while the source is visited

    @property
    def login(self) -> Account:
        """The account, for a transport that asks for one. CollectError where there is none."""
        if self.account is None:
            message = f"{self.procedure.over} needs an account"
            raise CollectError(FailureKind.SETUP, message, hint="add credentials to the source")
        return self.account

    @property
    def port(self) -> int:
        """The port that the source is reached at."""
        return self.source.port or self.procedure.port

    @property
    def place(self) -> str:
        """Where the source is, as messages say it."""
        return f"{self.source.address} port {self.port}"


@dataclass(frozen=True)
class Origin:
    """What a file was called where it was pulled, and its time there, in UTC; None where it is unknown."""

    name: str = ""
    time: datetime | None = None

    @classmethod
    def of(cls, name: str, seconds: float | None) -> "Origin":
        """With its time in seconds since 1970; one beyond what there are dates for is none."""
        try:
            return cls(name, datetime.fromtimestamp(seconds, UTC) if seconds is not None else None)
        except (OverflowError, ValueError, OSError):
            return cls(name)


@dataclass(frozen=True)
class Answer:
    """What came back: the content, and what the protocol says about it. `complaints`: of a program."""

    content: bytes = field(repr=False)
    complaints: bytes = b""
    exit_code: int | None = None
    status: int | None = None
    headers: Mapping[str, str] = field(default_factory=dict)
    cookies: Mapping[str, str] = field(default_factory=dict)

    @property
    def tail(self) -> bytes:
        """What a message about this answer shows of it."""
        return self.complaints[-TAIL:] or self.content[-TAIL:]

    @cached_property
    def json(self) -> Any:
        """The content as JSON (RFC 8259); LookupError when it is none."""
        try:
            return msgspec.json.decode(self.content)
        except (msgspec.DecodeError, UnicodeError, RecursionError) as exc:
            raise LookupError(f"the answer is not JSON: {exc}") from exc


class Session(Generic[P]):
    """An open conversation with a source. Transports say, or pull, or both; `P` is the class of their procedures.

    Every call raises CollectError, with what came back as its tail.
    `secrets` are those of the account and what was learnt as one: an answer that holds one is given once. `remarks`
    collects what somebody should know of a good export anyway, `doubts` why it is none; `place` is the step being
    taken; `skew` is how far the source's clock is ahead of ours, where it reported. Once the export is on disk, what
    is in
    `remembered` is remembered for later rounds, and what is `owed` (by a transport's own account) is done. `waiting` is
    how many more exports wait at the source, and `made` when this one came, where that is known. `origin` is that of
    what was pulled last; `dates` are when parts were made, by their own account, None for one that does not tell.
    """

    def __init__(self, target: Target[P]) -> None:
        self.remarks: list[str] = []
        self.doubts: list[str] = []
        self.place = ""
        self.skew: timedelta | None = None
        self.remembered: dict[str, str] = {}
        self.owed = ""
        self.waiting = 0
        self.made: datetime | None = None
        self.origin = Origin()
        self.dates: list[datetime | None] = []
        self._target = target
        self._procedure = target.procedure
        self._tail = b""
        account = target.account
        known = (account.password, account.elevation) if account else ()
        self.secrets = {secret.reveal() for secret in known if secret}

    @property
    def folder(self) -> Path:
        """Where relative paths begin: the estate's folder."""
        return self._target.folder

    def gives_secret(self, said: str) -> bool:
        """Whether a secret is among what is said."""
        return any(secret and secret in said for secret in self.secrets)

    def may_repeat(self, what: Said) -> bool:
        """Whether to say this once more, after no answer came, can do no harm."""
        return False

    def changes_nothing(self, what: Said) -> bool:
        """Whether this only reads: refused for now, it may be asked again."""
        return False

    async def say(self, what: Any, step: Any) -> Answer:
        """Say something and return the whole answer.

        `what` is a text, or a list of words where the transport says so; `step` has more on `how`, in its own clauses.
        """
        raise CollectError(FailureKind.STEP, f"{self._procedure.over} has no commands")

    async def pull(self, path: str, name: str | None, step: Any) -> Sequence[Part]:
        """Fetch a file, or a folder with all that is in it, as parts called after `name`; `step` as of `say`."""
        raise CollectError(FailureKind.STEP, f"{path} cannot be pulled over {self._procedure.over}")

    async def put(self, place: str, content: bytes, step: Any) -> Answer:
        """Put this content in its place at the source; `step` as of `say`. What was there stays until all has come."""
        raise CollectError(FailureKind.STEP, f"{place} cannot be put over {self._procedure.over}")

    async def remove(self, place: str) -> None:
        """Remove a file at the source; one that is not there is no failure. Raises CollectError."""
        raise CollectError(FailureKind.STEP, f"no file can be removed over {self._procedure.over}")

    @property
    def tail(self) -> bytes:
        """The end of what came back so far, for a message about a step that did not end."""
        return self._tail

    def limit(self, step: Step) -> int:
        """How many bytes a step may bring."""
        own = step.max_size if isinstance(step, Keeping) else None
        return int(own or self._procedure.max_size)

    def spool(self, step: Step, room: int | None = None) -> Spool:
        """Where an answer is put down: of as many bytes as a step may bring, or as there is room for."""
        return Spool(self._target.spool, self.limit(step) if room is None else room)

    async def _drain(self, read: Callable[[int], Awaitable[bytes]], limit: int) -> bytes:
        """All that a stream gives, up to the size limit."""
        received = bytearray()
        while chunk := await read(_CHUNK):
            received += chunk
            self._tail = bytes(received[-TAIL:])
            if len(received) > limit:
                raise CollectError(FailureKind.TOO_LARGE, f"its output exceeds {size_text(limit)}", tail=self.tail)
        return bytes(received)
