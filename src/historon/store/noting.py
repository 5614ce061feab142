"""What is remembered of the whole as long as it is so: notes since when, what was lost, and what is paused."""

import json
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime

import msgspec

from historon.base.processes import is_running
from historon.estate import Said
from historon.store.interface import Memory
from historon.store.records import ESTATE, PAUSED
from historon.store.verification import Damage

__all__ = [
    "HEARTBEAT",
    "PRUNING",
    "RETIRED",
    "TIMETABLE",
    "StillPaused",
    "accept_losses",
    "at_work_topic",
    "losses_of",
    "note",
    "note_losses",
    "noted",
    "still_paused",
]

HEARTBEAT = "heartbeat"  # the topic of a sign of life that did not arrive
PRUNING = "pruning blocked"  # the topic of pruning that waits for a person
RETIRED = "retired"  # the topic under which is remembered why a source is no longer described
TIMETABLE = "timetable"  # the topic under which is remembered up to when a source's timetables are kept


def at_work_topic(round_number: int) -> str:
    """The topic under which is remembered which process is at a round."""
    return f"at work {round_number}"


def note(store: Memory, topic: str, words: str, now: datetime) -> None:
    """Remember that something is so, from the first time on; with no words that it is so no more. StoreError."""
    before = noted(store, topic)
    since = before[0] if before is not None else now
    text = f"{since.isoformat()} {words}" if words else ""
    if text != (store.recall(ESTATE, topic) or ""):
        store.remember(ESTATE, topic, text)


def noted(store: Memory, topic: str) -> tuple[datetime, str] | None:
    """Since when something is so (UTC), and in which words; None where it is not so. StoreError."""
    text = store.recall(ESTATE, topic)
    if not text:
        return None
    since, _, words = text.partition(" ")
    return datetime.fromisoformat(since), words


_TOPIC = "lost with a copy"


def note_losses(store: Memory, lost: Sequence[Damage]) -> None:
    """Remember what a store lacks of the copy that it was made from."""
    if lost:
        told = [(one.source, one.number, one.part, one.problem) for one in lost]
        store.remember(ESTATE, _TOPIC, msgspec.json.encode(told).decode())


def losses_of(store: Memory) -> list[Damage]:
    """What the store lacks of the copy that it was made from, and nobody has accepted yet."""
    text = store.recall(ESTATE, _TOPIC)
    return [Damage(*one) for one in msgspec.json.decode(text)] if text else []


def accept_losses(store: Memory) -> None:
    """Let what was lost be known no more."""
    store.remember(ESTATE, _TOPIC, "")


@dataclass(frozen=True)
class StillPaused:
    """A source whose service was left paused: how to resume it, since when (UTC), and what the ledger says of it."""

    source: str
    resume: Said
    since: datetime
    note: str

    @property
    def words(self) -> str:
        """How to resume it by hand."""
        return self.resume if isinstance(self.resume, str) else " ".join(self.resume)


def still_paused(store: Memory, now: datetime) -> list[StillPaused]:
    """The sources that are paused by nobody who is still at it, by name. StoreError when the ledger cannot be read.

    Of a process on another machine it cannot be known whether it runs: it has the time that its procedure may take.
    """
    found = []
    for source, text in sorted(store.recall_all(PAUSED).items()):
        note = json.loads(text)
        running = is_running(note["by"])
        if running is False or (running is None and now > datetime.fromisoformat(note["until"])):
            resume = note["resume"]
            said = resume if isinstance(resume, str) else tuple(resume)
            found.append(StillPaused(source, said, datetime.fromisoformat(note["since"]), text))
    return found
