"""Second places: which there are, how far they are behind, and bringing them up to date."""

import os
from contextlib import closing
from dataclasses import dataclass
from datetime import datetime, timedelta
from pathlib import Path
from typing import cast

from historon.copies.interface import CopyModule
from historon.errors import OutsideError
from historon.estate import Copy, Estate, module_of, settings_digest, settings_files
from historon.store import ESTATE, Copied, Store, Verification, open_store

__all__ = ["CopyStatus", "bring_up_to_date", "copies_of", "fetch_copy", "note_copied", "verify_copy"]

_LEFT_OUT = "left-out="


@dataclass(frozen=True)
class CopyStatus:
    """A copy: as of when it is (None for never), and since when something is missing in it (None for nothing).

    `left_out` is how many parts its kind cannot hold.
    """

    name: str
    copy: Copy
    at: datetime | None
    missing_since: datetime | None
    left_out: int = 0

    def behind(self, now: datetime) -> timedelta | None:
        """For how long something has been missing in it; None when nothing is."""
        return now - self.missing_since if self.missing_since else None

    def overdue(self, now: datetime) -> bool:
        """Whether it is further behind than its `max_lag`."""
        behind = self.behind(now)
        return behind is not None and behind > self.copy.max_lag


def copies_of(estate: Estate, store: Store, now: datetime) -> list[CopyStatus]:
    """All copies, as the ledger knows them. What is missing in one counts from when that was first seen.

    Raises StoreError when the ledger can be neither read nor written.
    """
    found = []
    number = store.change_number()
    carried = any(copy.carries_settings for copy in estate.copies.values())
    digest = _digest_of_settings(estate) if carried else ""
    for name, copy in estate.copies.items():
        written = (store.recall(ESTATE, _topic(name)) or "").split()
        at = datetime.fromisoformat(written[0]) if written else None
        left_out = next((int(one.removeprefix(_LEFT_OUT)) for one in written if one.startswith(_LEFT_OUT)), 0)
        carries = [one for one in written[2:] if not one.startswith(_LEFT_OUT)]
        settings = [digest] if copy.carries_settings and digest else []
        whole = bool(written) and int(written[1]) == number and carries == settings
        missing_since = None if whole else _missing_since(store, name, at, now)
        found.append(CopyStatus(name, copy, at, missing_since, left_out))
    return found


def _missing_since(store: Store, name: str, at: datetime | None, now: datetime) -> datetime:
    """When the first thing came that is missing in a copy: a version by its instant, else when it was first seen."""
    text = store.recall(ESTATE, _seen_topic(name))
    if text:
        return datetime.fromisoformat(text)
    good = (one.good_at for one in store.states().values())
    since = min((one for one in good if one and (at is None or one > at)), default=now)
    store.remember(ESTATE, _seen_topic(name), since.isoformat())
    return since


def bring_up_to_date(estate: Estate, name: str) -> Copied:
    """Copy the store, which is opened for it; may run in a thread of its own. Raises StoreError, OutsideError."""
    copy = estate.copies[name]
    if copy.mount is not None and not os.path.ismount(estate.path(copy.mount)):
        raise OutsideError(f"copy {name}: nothing is mounted at {estate.path(copy.mount)}", hint="mount it")
    with closing(open_store(estate)) as store:
        return _module_of(copy).update(copy, estate, store)


def verify_copy(estate: Estate, name: str, sample: int | None = None) -> Verification:
    """Read all that is in a copy, or so much of it, and check it. Raises StoreError, OutsideError."""
    copy = estate.copies[name]
    return _module_of(copy).verify(copy, estate, sample)


def fetch_copy(estate: Estate, name: str, folder: Path) -> None:
    """Write all that a copy holds into a folder, as a copy of kind `store` is. Raises StoreError, OutsideError."""
    copy = estate.copies[name]
    _module_of(copy).fetch(copy, estate, folder)


def _module_of(copy: Copy) -> CopyModule:
    return cast(CopyModule, module_of(copy))


def note_copied(store: Store, name: str, at: datetime, copied: Copied) -> None:
    """Note as of when a copy is, the instant at which copying began, and what it holds."""
    left_out = f"{_LEFT_OUT}{len(copied.left_out)}" if copied.left_out else ""
    words = [at.isoformat(), str(copied.changes), copied.settings, left_out]
    store.remember(ESTATE, _topic(name), " ".join(filter(None, words)))
    store.remember(ESTATE, _seen_topic(name), "")


def _digest_of_settings(estate: Estate) -> str:
    """Empty where the files cannot be read: then they are not what a copy is behind for."""
    try:
        return settings_digest(settings_files(estate))
    except OSError:
        return ""


def _seen_topic(name: str) -> str:
    return f"copy {name} missing since"


def _topic(name: str) -> str:
    return f"copy {name}"
