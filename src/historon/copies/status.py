"""Second places: which there are, how far they are behind, and bringing them up to date."""

import os
from collections.abc import Iterable
from dataclasses import dataclass
from datetime import datetime, timedelta

from historon.errors import OutsideError
from historon.estate import Copy, Estate
from historon.store import ESTATE, Copied, SourceState, Store, copy_store

__all__ = ["CopyStatus", "bring_up_to_date", "copies_of", "note_copied"]


@dataclass(frozen=True)
class CopyStatus:
    """A copy: as of when it is (None for never), and since when something is missing in it (None for nothing)."""

    name: str
    copy: Copy
    at: datetime | None
    missing_since: datetime | None

    def behind(self, now: datetime) -> timedelta | None:
        """For how long something has been missing in it; None when nothing is."""
        return now - self.missing_since if self.missing_since else None

    def overdue(self, now: datetime) -> bool:
        """Whether it is further behind than its `max_lag`."""
        behind = self.behind(now)
        return behind is not None and behind > self.copy.max_lag


def copies_of(estate: Estate, store: Store) -> list[CopyStatus]:
    """All copies, as the ledger knows them."""
    states = list(store.states().values()) if estate.copies else []
    good = sum(one.good or 0 for one in states)
    found = []
    for name, copy in estate.copies.items():
        written = (store.recall(ESTATE, _topic(name)) or "").split()
        at = datetime.fromisoformat(written[0]) if written else None
        whole = bool(written) and int(written[1]) >= good
        found.append(CopyStatus(name, copy, at, None if whole else _missing_since(states, at)))
    return found


def _missing_since(states: Iterable[SourceState], at: datetime | None) -> datetime | None:
    """When the first of the versions was made that came after an instant; that instant itself when it was before."""
    return min((one.good_at for one in states if one.good_at and (at is None or one.good_at > at)), default=at)


def bring_up_to_date(estate: Estate, name: str) -> Copied:
    """Copy the store; needs no open store, and may run in a thread of its own. Raises StoreError, OutsideError."""
    copy = estate.copies[name]
    if copy.mount is not None and not os.path.ismount(estate.path(copy.mount)):
        raise OutsideError(f"copy {name}: nothing is mounted at {estate.path(copy.mount)}", hint="mount it")
    return copy_store(estate.path(estate.settings.store), estate.path(copy.path))


def note_copied(store: Store, name: str, at: datetime, copied: Copied) -> None:
    """Note as of when a copy is, the instant at which copying began, and what it holds."""
    store.remember(ESTATE, _topic(name), f"{at.isoformat()} {copied.good}")


def _topic(name: str) -> str:
    return f"copy {name}"
