"""What the ledger says of versions that are being pushed to their sources, and by which process."""

import json
from dataclasses import dataclass
from datetime import datetime

from historon.base.processes import is_running, this_process
from historon.store.interface import Memory
from historon.store.records import PUSHING, Version

__all__ = ["Unfinished", "hold_place", "note_push", "place_held", "release_place", "unfinished_pushes"]

_PLACE = "place held by a push"  # the topic under which is remembered which process pushes to a source, and until when


@dataclass(frozen=True)
class Unfinished:
    """A push of which nobody knows what came: what was to be there, what was there before, and since when (UTC).

    `why` says what was in the way; it is empty where Historon itself ended in the middle.
    """

    source: str
    wanted: int
    before: int
    since: datetime
    why: str = ""


def hold_place(store: Memory, source: str, now: datetime, until: datetime) -> bool:
    """Take a source for a push, so that no round visits it and no other push begins; False where another has it."""
    text = store.recall(source, _PLACE) or ""
    if text and _is_held(text, now):
        return False
    taken = json.dumps({"by": this_process(), "until": until.isoformat()})
    return store.swap(source, _PLACE, text, taken)


def release_place(store: Memory, source: str) -> None:
    """Let a source be visited again."""
    store.remember(source, _PLACE, "")


def place_held(store: Memory, source: str, now: datetime) -> bool:
    """Whether another process is pushing to a source."""
    text = store.recall(source, _PLACE) or ""
    return bool(text) and json.loads(text)["by"] != this_process() and _is_held(text, now)


def _is_held(text: str, now: datetime) -> bool:
    note = json.loads(text)
    running = is_running(note["by"])
    return running is True or (running is None and now <= datetime.fromisoformat(note["until"]))


def note_push(
    store: Memory, wanted: Version, before: Version, now: datetime, until: datetime, *, why: str | None = None
) -> None:
    """Put on record that a source is about to be changed, or, with `why`, that nobody knows what it holds. StoreError.

    The next export that comes of it ends that.
    """
    note = {
        "wanted": wanted.number,
        "before": before.number,
        "since": now.isoformat(),
        "until": until.isoformat(),
        "by": this_process() if why is None else "",
        "why": why or "",
    }
    store.remember(wanted.source, PUSHING, json.dumps(note))


def unfinished_pushes(store: Memory, now: datetime) -> list[Unfinished]:
    """The pushes that nobody is still at, by source: what those sources hold is not known. StoreError."""
    found = []
    for source, text in sorted(store.recall_all(PUSHING).items()):
        note = json.loads(text)
        running = is_running(note["by"])
        if running is False or (running is None and now > datetime.fromisoformat(note["until"])):
            since = datetime.fromisoformat(note["since"])
            found.append(Unfinished(source, note["wanted"], note["before"], since, note.get("why", "")))
    return found
