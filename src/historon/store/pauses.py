"""What the ledger says of services that are paused for an export, and by which process."""

import json
from dataclasses import dataclass
from datetime import datetime

from historon.base.processes import is_running
from historon.estate import Said
from historon.store.interface import Memory
from historon.store.records import PAUSED

__all__ = ["StillPaused", "still_paused"]


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
