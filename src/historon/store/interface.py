"""What a store is to the rest of Historon: few calls, synchronous and short, each a transaction of its own."""

from abc import ABC, abstractmethod
from collections.abc import Iterator, Mapping, Sequence
from datetime import datetime
from pathlib import Path

from historon.store.outbox import Outbox
from historon.store.records import (
    Approval,
    Changed,
    Copied,
    Entry,
    Recorded,
    Removal,
    Removed,
    Round,
    SourceState,
    State,
    StoredPart,
    Version,
    Visit,
    version_digest,
)

__all__ = ["Leases", "Memory", "Rounds", "Store", "Versions"]


class Versions(ABC):
    """Sources and their versions: reading, marking, removing."""

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
    def vouch(
        self, version: Version, state: State, added: int, removed: int, families: bytes, signature: bytes | None
    ) -> None:
        """Let a suspect version count as good, in this state; it is the source's last good one unless a newer one is.

        Where the source's last outcome was this suspect version, it is a good one now. What is older is no measure any
        more for what comes (see `last_good`).
        """

    @abstractmethod
    def doubt(self, version: Version, why: str) -> None:
        """Let a good version count as suspect, for this reason; the source's last good one is the one before it then.

        A vouch for it ends.

        How long ago that one was last confirmed is not known any more: it counts from when it was made. Where there is
        none before it, the source has no good version.
        """

    @abstractmethod
    def hold(self, source: str, number: int, reason: str | None) -> None:
        """Hold a version for this reason, or release it with None."""

    @abstractmethod
    def held(self) -> list[Version]:
        """All versions that a person holds, by source and number."""

    @abstractmethod
    def vouched(self) -> list[Version]:
        """All versions that a person has vouched for, by source and number."""

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
    def weights(self, source: str) -> dict[int, int]:
        """By the number of each version, the bytes at rest of the contents that came with it: about what it takes."""

    @abstractmethod
    def signature(self, source: str) -> tuple[int, bytes] | None:
        """The bits of all that is to be found in a source from this version on; None when nobody kept them."""

    @abstractmethod
    def signed(self, source: str) -> bool:
        """Whether there are such bits."""

    @abstractmethod
    def signatures(self) -> Iterator[tuple[str, int, bytes]]:
        """The same for all sources that there are any of, each with its name."""


class Rounds(ABC):
    """Rounds, and what they found out."""

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
    def end_round(self, round_number: int, at: datetime) -> None:
        """Close a round, unless it is closed already."""

    @abstractmethod
    def rounds(self, limit: int = 20, *, up_to: int | None = None) -> list[Round]:
        """The last rounds, newest first; with `up_to` none that came after this one."""

    @abstractmethod
    def visits(self, round_number: int) -> list[Visit]:
        """What a round found, source by source, by name; empty for a round that is not there."""

    @abstractmethod
    def at_work(self, one: Round) -> bool | None:
        """Whether the process that began a round is still at it; None when that cannot be known from here."""


class Memory(ABC):
    """Texts that are remembered of sources, each under a topic; ESTATE stands for the estate as a whole."""

    @abstractmethod
    def recall(self, source: str, topic: str) -> str | None:
        """What was remembered of a source under this topic."""

    @abstractmethod
    def recall_all(self, topic: str) -> dict[str, str]:
        """What was remembered of every source under this topic, by name."""

    @abstractmethod
    def remember(self, source: str, topic: str, text: str) -> None:
        """Remember something of a source, instead of what was remembered under this topic before.

        An empty text forgets it.
        """

    @abstractmethod
    def remember_all(self, topic: str, texts: Mapping[str, str]) -> None:
        """Remember something of many sources, by name, in one transaction."""

    @abstractmethod
    def swap(self, source: str, topic: str, old: str, new: str) -> bool:
        """Remember this text in the place of that one, or of none (""); False, and nothing done, when it is another."""


class Leases(ABC):
    """The right to be the only service."""

    @abstractmethod
    def lease(self, holder: str, now: datetime, until: datetime) -> str | None:
        """Take, or renew, the right to be the only service; None when it is ours, else who holds it until later.

        A right that has run out is taken over, and so is that of a holder known to be dead (see base.processes).
        """

    @abstractmethod
    def release(self, holder: str) -> None:
        """Give that right back, if it is ours."""


class Store(Versions, Rounds, Memory, Leases):
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

    @property
    @abstractmethod
    def outbox(self) -> Outbox:
        """What is to be reported, and what was."""

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
