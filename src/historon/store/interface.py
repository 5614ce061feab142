"""What a store is to the rest of Historon: few calls, synchronous and short, each a transaction of its own.

Instants are aware datetimes in UTC, exact to the millisecond.
"""

import hashlib
from abc import ABC, abstractmethod
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from datetime import datetime, timedelta
from enum import StrEnum
from functools import cached_property
from pathlib import Path
from typing import IO

from historon.store.outbox import Outbox

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
    "Store",
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


class Store(ABC):
    """Versions at rest. Whatever `record` has returned is on disk and whole.

    `indexed` says whether signatures are kept, by which sources are found without reading them.
    """

    indexed: bool = True

    @property
    @abstractmethod
    def place(self) -> str:
        """Where it is, in words that give nothing away."""

    @property
    @abstractmethod
    def folder(self) -> Path | None:
        """The folder of this machine that it is in; None where it is elsewhere."""

    def another(self) -> "Store":
        """The same store for another thread, closed with this one; or this one, where there is no need for that."""
        return self

    @abstractmethod
    def begin_round(self, at: datetime, trigger: str) -> int:
        """Open a round; returns its number."""

    @abstractmethod
    def record(self, round_number: int, entries: Sequence[Entry]) -> list[Recorded]:
        """Record all entries in one transaction: all of them, or, with StoreError, none.

        Nothing is recorded in a round that was ended, as a service does that took over from one that was stopped.
        Parts equal to those of the source's last good version make no new version; nor does a suspect export equal to
        the last suspect one.
        """

    @abstractmethod
    def vouch(
        self, version: Version, state: State, added: int, removed: int, families: bytes, signature: bytes | None
    ) -> None:
        """Let a suspect version count as good, in this state; it is the source's last good one unless a newer one is.

        Where the source's last outcome was this suspect version, it is a good one now. What is older is no measure any
        more for what comes (see `last_good`).
        """

    @abstractmethod
    def held(self) -> list[Version]:
        """All versions that a person holds, by source and number."""

    @abstractmethod
    def vouched(self) -> list[Version]:
        """All versions that a person has vouched for, by source and number."""

    @abstractmethod
    def doubt(self, version: Version, why: str) -> None:
        """Let a good version count as suspect, for this reason; the source's last good one is the one before it then.

        A vouch for it ends.

        How long ago that one was last confirmed is not known any more: it counts from when it was made. Where there is
        none before it, the source has no good version.
        """

    @abstractmethod
    def end_round(self, round_number: int, at: datetime) -> None:
        """Close a round, unless it is closed already."""

    @abstractmethod
    def rounds(self, limit: int = 20, *, up_to: int | None = None) -> list[Round]:
        """The last rounds, newest first; with `up_to` none that came after this one."""

    @abstractmethod
    def visits(self, round_number: int) -> list[Visit]:
        """What a round found, source by source, by name; empty for a round that is not there."""

    @abstractmethod
    def states(self) -> dict[str, SourceState]:
        """The summary of every source the ledger has ever met, by name."""

    @abstractmethod
    def state(self, source: str) -> SourceState:
        """The summary of one source; an empty one when the ledger never met it."""

    @abstractmethod
    def versions(self, source: str) -> list[Version]:
        """All versions of a source, oldest first."""

    @abstractmethod
    def last_good(self, source: str, most: int) -> list[Version]:
        """So many of the newest versions that are not suspect, the newest first, back to the last one vouched for."""

    @abstractmethod
    def version(self, source: str, number: int) -> Version | None:
        """One version, or None when it is not there."""

    @abstractmethod
    def parts(self, source: str, number: int) -> list[StoredPart]:
        """The parts of a version, by name."""

    @abstractmethod
    def all_parts(self, source: str) -> dict[int, list[StoredPart]]:
        """The parts of each version of a source, by its number: far less work than asking for one after another."""

    def digests(self, source: str) -> dict[int, bytes]:
        """The digest of each version of a source, by its number, as the ledger says it; see `version_digest`."""
        return {number: version_digest(parts) for number, parts in self.all_parts(source).items()}

    @abstractmethod
    def read(self, part: StoredPart) -> bytes:
        """The bytes of a part, verified against their SHA-256; StoreError when they are damaged."""

    @abstractmethod
    def pieces(self, part: StoredPart) -> Iterator[bytes]:
        """The same, a piece at a time, for parts of any size; StoreError after the last piece when they are damaged."""

    @abstractmethod
    def changed(self, since: datetime, until: datetime) -> list[Changed]:
        """The versions of all sources that changed something in this time, oldest first."""

    @abstractmethod
    def signature(self, source: str) -> tuple[int, bytes] | None:
        """The bits of all that is to be found in a source from this version on; None when nobody kept them."""

    @abstractmethod
    def signed(self, source: str) -> bool:
        """Whether there are such bits."""

    @abstractmethod
    def signatures(self) -> Iterator[tuple[str, int, bytes]]:
        """The same for all sources that there are any of, each with its name."""

    @property
    @abstractmethod
    def outbox(self) -> Outbox:
        """What is to be reported, and what was."""

    @abstractmethod
    def recall(self, source: str, topic: str) -> str | None:
        """What was remembered of a source under this topic; ESTATE stands for the estate as a whole."""

    @abstractmethod
    def remember(self, source: str, topic: str, text: str) -> None:
        """Remember something of a source, instead of what was remembered under this topic before.

        An empty text forgets it.
        """

    @abstractmethod
    def at_work(self, one: Round) -> bool | None:
        """Whether the process that began a round is still at it; None when that cannot be known from here."""

    @abstractmethod
    def swap(self, source: str, topic: str, old: str, new: str) -> bool:
        """Remember this text in the place of that one, or of none (""); False, and nothing done, when it is another."""

    @abstractmethod
    def recall_all(self, topic: str) -> dict[str, str]:
        """What was remembered of every source under this topic, by name."""

    @abstractmethod
    def remember_all(self, topic: str, texts: Mapping[str, str]) -> None:
        """Remember something of many sources, by name, in one transaction."""

    @abstractmethod
    def lease(self, holder: str, now: datetime, until: datetime) -> str | None:
        """Take, or renew, the right to be the only service; None when it is ours, else who holds it until later.

        A right that has run out is taken over, and so is that of a holder known to be dead (see base.processes).
        """

    @abstractmethod
    def release(self, holder: str) -> None:
        """Give that right back, if it is ours."""

    @abstractmethod
    def weights(self, source: str) -> dict[int, int]:
        """By the number of each version, the bytes at rest of the contents that came with it: about what it takes."""

    @abstractmethod
    def hold(self, source: str, number: int, reason: str | None) -> None:
        """Hold a version for this reason, or release it with None."""

    @abstractmethod
    def remove(self, versions: Sequence[Version], removal: Removal) -> int:
        """Remove versions in one transaction, on record; returns how many went. The space comes back with `reclaim`.

        StoreError, and nothing is removed, when the last good version or a held one is among them.
        """

    @abstractmethod
    def removed(self, source: str) -> list[Removed]:
        """The versions of a source that were removed, by number."""

    @abstractmethod
    def removed_after(self, round_number: int) -> list[Removed]:
        """The versions of all sources that were removed after a round, by source and number."""

    @abstractmethod
    def reclaim(self) -> int:
        """Pack what was written in haste and give free space back; returns the bytes that the store shrank by."""

    @abstractmethod
    def check(self) -> list[str]:
        """What is wrong with the ledger's own structure, as its engine sees it; nothing when all is well."""

    @abstractmethod
    def fingerprint_key(self) -> bytes:
        """The store's own random key, with which masked secrets are distinguished."""

    @abstractmethod
    def give_back(self) -> None:
        """Give the disk back what removed versions took, at once and without writing anything again."""

    @abstractmethod
    def room(self) -> int | None:
        """How many bytes may still be written where the store is; None where that cannot be known."""

    @abstractmethod
    def set_aside(self) -> None:
        """Set room aside for the day when there is none left, when there is enough of it now."""

    @abstractmethod
    def change_number(self) -> int:
        """A number that every version that is made, marked, held, vouched for or removed raises.

        Two stores with the same key and number hold the same versions with the same marks. Confirmations of a version,
        rounds and notices do not raise it.
        """

    @abstractmethod
    def rename(self, old: str, new: str, at: datetime) -> int:
        """Give all that is known of a source another name, in one step; returns how many versions that is.

        Under the old name every version counts as removed, by the rule `renamed to NEW`, so that copies can follow.
        StoreError where the new name has versions already.
        """

    @abstractmethod
    def last_numbers(self) -> dict[str, int]:
        """The highest number that was ever given to a version of each source."""

    @abstractmethod
    def raise_numbers(self, numbers: Mapping[str, int]) -> None:
        """Give no number up to these to a version of these sources any more: they are taken, by lost ones."""

    @abstractmethod
    def renew_key(self) -> None:
        """Make it another store, whose copies are its own: with a new key."""

    @abstractmethod
    def size(self) -> int:
        """The bytes the store takes on disk."""

    @abstractmethod
    def copy_to(self, target: Path, approve: Approval | None = None) -> Copied:
        """Make a folder a copy of the store as of now, all of it; may run while the store is written to.

        The copy is never made worse: it stays as it was, with StoreError when anything new in it does not match its
        SHA-256, and with RefusedError when it is one of another store, when a version that it holds is neither here
        nor removed on record, when `approve` does not agree to a removal, or when a version has another digest here.
        """

    @abstractmethod
    def write_ledger(self, file: Path) -> None:
        """Write all but the contents, as of now, into a new file of SQLite, see BareLedger. StoreError."""

    @abstractmethod
    def close(self) -> None:
        """Let go of the store; it may be opened again."""
