"""What goes into a store and comes out of it. Instants are aware datetimes in UTC, exact to the millisecond."""

import hashlib
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from datetime import datetime, timedelta
from enum import StrEnum
from functools import cached_property
from typing import IO

__all__ = [
    "DATED",
    "ESTATE",
    "LARGE",
    "NO_DATE",
    "PAUSED",
    "PUSHING",
    "RENAMED",
    "SKEW",
    "Approval",
    "Changed",
    "Copied",
    "Entry",
    "Followed",
    "Outcome",
    "Part",
    "Recorded",
    "Removal",
    "Removed",
    "Round",
    "SourceState",
    "State",
    "StoredPart",
    "Version",
    "Visit",
    "digest_of_names",
    "version_digest",
]


RENAMED = "renamed to "  # what the rule of a removal begins with, when the version goes on under another name


class Outcome(StrEnum):
    """How a source fared in a round."""

    NEW = "new"
    CHANGED = "changed"
    UNCHANGED = "unchanged"
    SUSPECT = "suspect"
    FAILED = "failed"
    SKIPPED = "skipped"

    @property
    def good(self) -> bool:
        """Whether the source's last good version is as new as this outcome."""
        return self in (Outcome.NEW, Outcome.CHANGED, Outcome.UNCHANGED)

    @classmethod
    def _missing_(cls, value: object) -> "Outcome | None":
        """The name that ledgers have for `new` up to schema 7."""
        return cls.NEW if value == "first" else None


class State(StrEnum):
    """What a version counts as: `noise` differs from the one before by masked noise alone."""

    GOOD = "good"
    NOISE = "noise"
    SUSPECT = "suspect"


ESTATE = ""  # in the place of a source: what is remembered is about the whole estate
PAUSED = "paused"  # the topic under which is remembered, while a source is paused, how to resume it
PUSHING = "pushing"  # the topic under which is remembered that a version is being pushed to a source
SKEW = "clock skew"  # the topic under which is remembered by how many seconds a source's clock was ahead of ours
DATED = "date of the export"  # the topic of when a source's last good export was made, by its own account (ISO 8601)
NO_DATE = "unknown"  # in its place, where the export did not tell
LARGE = 16 * 2**20  # bytes from which on a content is never held in memory as a whole
_EDGE = 2**16
_PIECE = 2**20


@dataclass(frozen=True)
class Part:
    """One named piece of an export on its way into the store.

    A large one has no `content`: it rests in the file `spool`, and `spooled` is its size and SHA-256. `is_tree` says
    that it was not collected, but written by Historon: the metadata of a tree (see store.trees).
    """

    name: str
    content: bytes = field(default=b"", repr=False)  # secrets and all
    spool: IO[bytes] | None = field(default=None, repr=False)
    spooled: tuple[int, bytes] | None = None
    is_tree: bool = False

    @property
    def size(self) -> int:
        """In bytes."""
        return self.spooled[0] if self.spooled else len(self.content)

    @cached_property
    def sha256(self) -> bytes:
        """The digest by which contents are known (FIPS 180-4)."""
        return self.spooled[1] if self.spooled else hashlib.sha256(self.content).digest()

    @property
    def edges(self) -> bytes:
        """The content, or of a large one how it begins and ends."""
        if self.spool is None:
            return self.content
        self.spool.seek(0)
        head = self.spool.read(_EDGE)
        self.spool.seek(self.size - _EDGE)
        return head + self.spool.read(_EDGE)

    def pieces(self) -> Iterator[bytes]:
        """The content, a piece at a time."""
        if self.spool is None:
            yield self.content
            return
        at = 0
        while at < self.size:
            self.spool.seek(at)
            piece = self.spool.read(_PIECE)
            at += len(piece)
            yield piece


@dataclass(frozen=True)
class StoredPart:
    """One part of a stored version; `place` is where the store keeps the bytes, and means nothing elsewhere.

    `is_tree` is as in Part.
    """

    name: str
    size: int
    sha256: bytes
    place: tuple[int, int]
    is_tree: bool = False


@dataclass(frozen=True)
class Version:
    """One export of one source. `size` is in bytes; added and removed count lines against the version before."""

    source: str
    number: int
    at: datetime
    state: State
    size: int
    added: int
    removed: int
    held: str | None = None
    note: str | None = None

    @property
    def good(self) -> bool:
        """Whether this version may stand for the source: everything but a suspect may."""
        return self.state is not State.SUSPECT


@dataclass(frozen=True)
class Entry:
    """What a round found out about one source, ready to be recorded.

    `at` is when the source was tried, `made` when its export came, where that is known; a version bears that instant.
    `families` are the fingerprints of what changed, `signature` the numbers of what is new in the export to be found
    by, below 32,768 and two bytes each; None when nobody has calculated them.
    """

    source: str
    outcome: Outcome
    at: datetime
    took: timedelta
    parts: Sequence[Part | StoredPart] = ()  # a stored one stands for itself: it is as it was
    state: State = State.GOOD
    added: int = 0
    removed: int = 0
    note: str | None = None
    families: bytes = b""
    signature: bytes | None = None
    steps: Sequence[tuple[str, timedelta]] = ()
    remembered: Sequence[tuple[str, str]] = ()  # topics and texts: in the same transaction as the version
    made: datetime | None = None


@dataclass(frozen=True)
class Changed:
    """A version that changed something. What `families` says is up to who recorded it; empty when nobody did."""

    source: str
    number: int
    at: datetime
    added: int
    removed: int
    families: bytes


@dataclass(frozen=True)
class Recorded:
    """What the ledger says after an entry: the outcome, and the version that its export is; None without an export."""

    source: str
    outcome: Outcome
    number: int | None


@dataclass(frozen=True)
class Visit:
    """What one round found at one source. `number` is the version it points to, `steps` how long each step took."""

    source: str
    outcome: Outcome
    at: datetime
    took: timedelta
    number: int | None
    note: str | None
    steps: tuple[tuple[str, timedelta], ...] = ()


@dataclass(frozen=True)
class SourceState:
    """The ledger's summary of a source.

    `good` is the number of its last good version, `good_at` when that was made, and `confirmed_at` when the source
    was last seen to be still so.
    """

    name: str
    good: int | None = None
    good_at: datetime | None = None
    confirmed_at: datetime | None = None
    outcome: Outcome | None = None
    outcome_at: datetime | None = None
    note: str | None = None


@dataclass(frozen=True)
class Round:
    """One pass over some sources; `ended` is None for one that is running or was cut short."""

    number: int
    began: datetime
    ended: datetime | None
    trigger: str
    outcomes: dict[Outcome, int] = field(default_factory=dict)


@dataclass(frozen=True)
class Removed:
    """A version that was removed: its instant, by which rule it went, when, and after which round.

    `sha256` is that of lines `DIGEST  NAME`, one for each of its parts, in order, with the digest of the part in hex.
    Of versions that an earlier Historon removed nothing but the number is known.
    """

    source: str
    number: int
    at: datetime | None = None
    sha256: bytes | None = None
    rule: str | None = None
    gone: datetime | None = None
    round: int | None = None


def version_digest(parts: Iterable[Part | StoredPart]) -> bytes:
    """The SHA-256 by which a version is known: of lines `DIGEST  NAME`, one for each of its parts, sorted."""
    return digest_of_names({part.name: part.sha256.hex() for part in parts})


def digest_of_names(digests: Mapping[str, str]) -> bytes:
    """The same, of the digests of parts in hex by their names."""
    lines = sorted(f"{digest}  {name}\n" for name, digest in digests.items())
    return hashlib.sha256("".join(lines).encode("utf-8", "surrogateescape")).digest()


@dataclass(frozen=True)
class Removal:
    """What removes versions: the instant, the rule by source, and the round that it follows; None for one by hand."""

    gone: datetime
    rules: Mapping[str, str] = field(default_factory=dict)
    round: int | None = None


@dataclass(frozen=True)
class Followed:
    """A removal that a copy is asked to follow: the version as the copy has it, and what the store's record says.

    `sha256` is the digest of what was removed, `rule` by what, `gone` when, `round` after which round. Where the copy
    does not tell noise from changes, the version's state is a guess (`state_known`).
    """

    version: Version
    sha256: bytes | None
    rule: str | None
    gone: datetime | None
    round: int | None
    state_known: bool = True


# Hears of the removals that a copy would follow; RefusedError where a person has to look first.
Approval = Callable[[Sequence[Followed]], None]


@dataclass(frozen=True)
class Copied:
    """What a copy holds now; `size` in bytes.

    `changes` is the store's change number, `settings` a digest of the estate's own files where they are in it too.
    `left` is how many objects are there that belong to it no more and could not be removed; `left_out` names the parts
    that this kind of copy cannot hold, each with why. `mended` is what was damaged in it and was written again.
    """

    sources: int
    versions: int
    size: int
    changes: int
    settings: str = ""
    left: int = 0
    left_out: tuple[str, ...] = ()
    mended: tuple[str, ...] = ()
