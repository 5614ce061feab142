"""What is owed to sources for exports that are on disk: putting away what was taken where it arrived."""

from collections.abc import Container, Iterable
from contextlib import closing
from pathlib import Path

from historon.base.errors import OutsideError
from historon.base.workers import Workers
from historon.collect.access import Access, Clock
from historon.collect.failures import CollectError
from historon.estate import Estate, Source
from historon.store import Store

__all__ = ["OWED", "owing", "settle", "settle_owed"]

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
