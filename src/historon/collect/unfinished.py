"""What was begun at sources and not ended, as Historon ended before: services to resume, files to put away.

While a source is paused, the ledger says how to resume it, which process is at it, and until when at most. Whoever
finds that this process is gone, or gave up, resumes the source at once, one of them alone.
"""

import json
from collections.abc import Container, Iterable, Sequence
from contextlib import closing
from dataclasses import dataclass
from datetime import timedelta
from pathlib import Path

from historon.base.errors import OutsideError, where_raised
from historon.base.processes import this_process
from historon.base.workers import Workers
from historon.collect.access import Access, Clock
from historon.collect.failures import NOT_RESUMED, CollectError
from historon.estate import Estate, Source
from historon.store import PAUSED, StillPaused, Store

__all__ = ["OWED", "Resumed", "owing", "resume_paused", "settle", "settle_owed"]


@dataclass(frozen=True)
class Resumed:
    """What became of one that was left paused; `trouble` says why it could not be resumed, empty when it could."""

    left: StillPaused
    trouble: str = ""

    def __str__(self) -> str:
        """What became of it, and what is to be done now."""
        if not self.trouble:
            return f"the service of {self.left.source} was left paused, and is resumed"
        return f"{NOT_RESUMED}: {self.left.source}: {self.trouble} (resume it by hand, now: {self.left.words})"


async def resume_paused(estate: Estate, store: Store, clock: Clock, lefts: Sequence[StillPaused]) -> list[Resumed]:
    """Resume these; returns what became of each that nobody else was at by now.

    Raises StoreError when the ledger cannot be written.
    """
    found = []
    for left in lefts:
        note = json.loads(left.note)
        source = estate.sources.get(left.source)
        until = clock() + (estate.procedure_of(source).deadline if source else timedelta())
        taken = json.dumps({**note, "by": this_process(), "until": until.isoformat()})
        if store.swap(left.source, PAUSED, left.note, taken):
            trouble = await _trouble(estate, source, store, clock, left)
            given_up = json.dumps({**note, "by": ""})
            store.swap(left.source, PAUSED, taken, given_up if trouble else "")
            found.append(Resumed(left, trouble))
    return found


async def _trouble(estate: Estate, source: Source | None, store: Store, clock: Clock, left: StillPaused) -> str:
    """Why it could not be resumed; empty when it could."""
    if source is None:
        return "the estate file no longer has this source"
    workers = Workers()
    try:
        reach = Access(estate, store, clock, workers)
        await reach.fetch_accounts([source])
        await reach.resume(source, left.resume)
    except CollectError as exc:
        return exc.message.removeprefix(f"{NOT_RESUMED}: ")
    except Exception as exc:
        return f"a defect in Historon itself: {where_raised(exc)}"
    finally:
        workers.close()
    return ""


OWED = "owed"  # under which the ledger remembers what is to be put away of what was taken


def owing(estate: Estate, store: Store, *, but: Container[str] = ()) -> list[Source]:
    """Sources for whose exports something is owed: a process ended before it came to it. StoreError."""
    return [
        estate.sources[name]
        for name, owed in store.recall_all(OWED).items()
        if owed and name in estate.sources and name not in but
    ]


async def settle(reach: Access, estate: Estate, store: Store, source: Source) -> str:
    """Put away what was taken, now that it is on disk, or was when Historon ended before it came to this.

    What went wrong, in words, as the export is safe; it is on record, and whoever comes next tries again. StoreError
    when the ledger cannot be read or written.
    """
    if not estate.procedure_of(source).arriving:
        return ""
    owed = store.recall(source.name, OWED)
    if not owed:
        return ""
    try:
        await reach.fetch_accounts([source])
        await reach.settle(source, owed)
        store.remember(source.name, OWED, "")
    except CollectError as exc:
        return f"{source.name}: {exc.message}; its collected file is not removed or moved yet"
    except OutsideError as exc:
        return f"{source.name}: {exc.message}; it was collected, but its file is not removed or moved yet"
    except OSError as exc:
        name = exc.filename if isinstance(exc.filename, (str, Path)) else source.name
        return f"{name}: {exc.strerror}; it was collected anyway"
    return ""


async def settle_owed(estate: Estate, store: Store, clock: Clock, sources: Iterable[Source]) -> list[str]:
    """Settle what is owed to these; what went wrong, in words. StoreError."""
    with closing(Workers()) as workers:
        reach = Access(estate, store, clock, workers)
        found = [await settle(reach, estate, store, source) for source in sources]
        return [wrong for wrong in found if wrong]
