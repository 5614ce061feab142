"""What the ledger says of versions that are being brought back to their sources, and by which process."""

import json
from dataclasses import dataclass
from datetime import datetime

from historon.processes import is_running, this_process
from historon.store.interface import PUSHING, Store, Version

__all__ = ["Unfinished", "note_push", "unfinished_pushes"]


@dataclass(frozen=True)
class Unfinished:
    """A push that did not come to its end: what was to be there, what was there before, and since when (UTC)."""

    source: str
    wanted: int
    before: int
    since: datetime


def note_push(
    store: Store, wanted: Version, before: Version, now: datetime, until: datetime, *, at_it: bool = True
) -> None:
    """Put on record that a source is about to be changed, or was and is not known to be as wanted. StoreError.

    The next export that comes of it ends that.
    """
    note = {
        "wanted": wanted.number,
        "before": before.number,
        "since": now.isoformat(),
        "until": until.isoformat(),
        "by": this_process() if at_it else "",
    }
    store.remember(wanted.source, PUSHING, json.dumps(note))


def unfinished_pushes(store: Store, now: datetime) -> list[Unfinished]:
    """The pushes that nobody is still at, by source: what those sources hold is not known. StoreError."""
    found = []
    for source, text in sorted(store.recall_all(PUSHING).items()):
        note = json.loads(text)
        running = is_running(note["by"])
        if running is False or (running is None and now > datetime.fromisoformat(note["until"])):
            since = datetime.fromisoformat(note["since"])
            found.append(Unfinished(source, note["wanted"], note["before"], since))
    return found
