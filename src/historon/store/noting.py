"""What is remembered of the whole as long as it is so: since when, and in which words."""

from datetime import datetime

from historon.store.interface import Memory
from historon.store.records import ESTATE

__all__ = ["HEARTBEAT", "PRUNING", "RETIRED", "TIMETABLE", "at_work_topic", "note", "noted"]

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
