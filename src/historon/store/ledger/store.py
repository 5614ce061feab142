"""What every store does that keeps its versions in the ledger's tables, whatever engine these are in."""

import secrets
from abc import abstractmethod
from collections.abc import Mapping, Sequence
from datetime import datetime

import msgspec

from historon.base.errors import StoreError
from historon.base.processes import is_running, this_process
from historon.store.interface import Store
from historon.store.ledger.memory import keep, number_of
from historon.store.ledger.milliseconds import to_ms
from historon.store.ledger.outbox import LedgerOutbox
from historon.store.ledger.rounds import RoundTables
from historon.store.ledger.transactions import Transactions, writing
from historon.store.ledger.versions import LedgerVersions
from historon.store.noting import at_work_topic
from historon.store.outbox import Outbox
from historon.store.records import (
    ESTATE,
    Entry,
    Recorded,
    Round,
    Visit,
)

__all__ = ["LedgerStore"]

_PACK_AT_ONCE, _PACK_AT_MOST = 50, 500


class LedgerStore(LedgerVersions, Store):
    """A store in tables. An engine adds where they are, what they take, and how they are copied."""

    def __init__(self, transactions: Transactions, *, indexed: bool = True) -> None:
        super().__init__(transactions)
        self.indexed = indexed
        self._rounds = RoundTables(transactions.db)
        self._outbox = LedgerOutbox(transactions, self._memory)
        transactions.undone = self._undone

    @abstractmethod
    def _lease_time(self, now: datetime) -> datetime:
        """The clock by which all who share this store calculate leases; `now` is that of this machine."""

    @abstractmethod
    def _is_dead(self, holder: str) -> bool:
        """Whether the holder of a lease is known to be gone before it has run out."""

    def _undone(self) -> None:
        self._contents.forget()
        self._names.forget()

    @writing("begin a round")
    def begin_round(self, at: datetime, trigger: str) -> int:
        number = self._rounds.begin(at, trigger)
        self._memory.remember(at_work_topic(number), {ESTATE: this_process()})
        return number

    @writing("end a round")
    def end_round(self, round_number: int, at: datetime) -> None:
        if self._rounds.has_ended(round_number):
            return
        self._rounds.end(round_number, at)
        self._memory.remember(at_work_topic(round_number), {ESTATE: ""})

    @writing("record versions")
    def record(self, round_number: int, entries: Sequence[Entry]) -> list[Recorded]:
        if self._rounds.has_ended(round_number):
            hint = "another service uses this store now, and collects again what this one found"
            raise StoreError(
                f"round {round_number} was ended by another process; nothing was recorded in it", hint=hint
            )
        visits = []
        for entry in entries:
            source = self._names.of(entry.source)
            outcome, number = self._take(source, entry)
            for topic, text in entry.remembered:
                self._memory.remember(topic, {entry.source: text})
            visits.append((source, entry, Recorded(entry.source, outcome, number)))
        self._rounds.add(round_number, visits)
        return [told for _, _, told in visits]

    def rounds(self, limit: int = 20, *, up_to: int | None = None) -> list[Round]:
        with self.transactions.reading("read the rounds"):
            return self._rounds.last(limit, up_to)

    def visits(self, round_number: int) -> list[Visit]:
        with self.transactions.reading("read a round"):
            return self._rounds.visits(round_number)

    @property
    def outbox(self) -> Outbox:
        return self._outbox

    def recall(self, source: str, topic: str) -> str | None:
        with self.transactions.reading("recall"):
            return self._memory.recall(source, topic)

    def recall_all(self, topic: str) -> dict[str, str]:
        with self.transactions.reading("recall"):
            return self._memory.recall_all(topic)

    def remember(self, source: str, topic: str, text: str) -> None:
        self.remember_all(topic, {source: text})

    @writing("remember")
    def remember_all(self, topic: str, texts: Mapping[str, str]) -> None:
        self._memory.remember(topic, texts)

    @writing("remember")
    def swap(self, source: str, topic: str, old: str, new: str) -> bool:
        if (self._memory.recall(source, topic) or "") != old:
            return False
        self._memory.remember(topic, {source: new})
        return True

    def at_work(self, one: Round) -> bool | None:
        if one.ended is not None:
            return False
        return is_running(self.recall(ESTATE, at_work_topic(one.number)) or "")

    @writing("take the lease")
    def lease(self, holder: str, now: datetime, until: datetime) -> str | None:
        began = self._lease_time(now)
        ends = began + (until - now)
        row = self._db.execute("SELECT value FROM meta WHERE name = 'service'").fetchone()
        other, end = msgspec.json.decode(row[0], type=tuple[str, int]) if row else (holder, 0)
        # One that reaches further than anybody asks for was taken before the clock was set back.
        if other != holder and to_ms(began) < end <= to_ms(ends) and not self._is_dead(other):
            return other
        keep(self._db, "service", msgspec.json.encode((holder, to_ms(ends))))
        return None

    @writing("end the lease")
    def release(self, holder: str) -> None:
        row = self._db.execute("SELECT value FROM meta WHERE name = 'service'").fetchone()
        if row and msgspec.json.decode(row[0], type=tuple[str, int])[0] == holder:
            self._db.execute("DELETE FROM meta WHERE name = 'service'")

    def reclaim(self) -> int:
        before = self.size()
        self._pack()
        self.give_back()
        return max(0, before - self.size())

    def _pack(self) -> None:
        """Compress harder what rounds had to write quickly; some at a time, as others may wait to write."""
        with self.transactions.reading("read the store's state"):
            packed = number_of(self._db, "packed")
        left = _PACK_AT_MOST
        while left > 0:
            last = self._pack_some(packed)
            if last == packed:
                break
            packed, left = last, left - _PACK_AT_ONCE

    @writing("pack keyframes")
    def _pack_some(self, packed: int) -> int:
        last = self._contents.pack(packed, _PACK_AT_ONCE)
        keep(self._db, "packed", b"%d" % last)
        return last

    @writing("renew the store's key")
    def renew_key(self) -> None:
        self._db.execute("UPDATE meta SET value = ? WHERE name = 'fingerprint_key'", (secrets.token_bytes(32),))

    def fingerprint_key(self) -> bytes:
        with self.transactions.reading("read the store's key"):
            return bytes(self._db.execute("SELECT value FROM meta WHERE name = 'fingerprint_key'").fetchone()[0])

    def change_number(self) -> int:
        with self.transactions.reading("read the store's state"):
            return number_of(self._db, "changes")
