"""Second places: which there are, how far they are behind, what is wrong with them, and bringing them up to date."""

import asyncio
import os
from collections.abc import Sequence
from contextlib import closing
from dataclasses import dataclass
from datetime import datetime, timedelta
from pathlib import Path
from typing import cast

import msgspec

from historon.base.errors import HistoronError, OutsideError, RefusedError, StoreError, where_raised
from historon.base.threads import apart
from historon.copies.checking import store_identity
from historon.copies.interface import CopyModule, Holdings
from historon.estate import Copy, Estate, module_of, settings_digest, settings_files
from historon.store import ESTATE, ContradictionError, Copied, Damage, Store, Verification, open_store

__all__ = [
    "CopyStatus",
    "bring_up_to_date",
    "copies_of",
    "fetch_copy",
    "forget_copies",
    "heed_in_time",
    "holdings_of",
    "note_copied",
    "note_refused",
    "note_verified",
    "verify_copy",
]

_LEFT_OUT = "left-out="
_ANSWERS_S = 60  # within which copies say whether one is newer than the store
_KEPT = 100  # damages that are remembered of a copy
_OLDER = "the store is older than this copy, as after a restored snapshot: it lacks versions that the copy has"


class _Verified(msgspec.Struct):
    """What the last verification of a copy found: when, and all that was damaged then and was not mended since."""

    at: datetime
    damages: list[tuple[str, int | None, str, str]]
    more: int = 0
    differs: bool = False


class _Refused(msgspec.Struct):
    """Why a copy was not brought up to date, and whether a version in it contradicts the store."""

    why: str
    contradicts: bool


@dataclass(frozen=True)
class CopyStatus:
    """A copy: as of when it is (None for never), and since when something is missing in it (None for nothing).

    `left_out` is how many parts its kind cannot hold. `damages` are those that the last verification found and that
    were not mended since, `damaged` how many these were in all; where it only `differs` from the store, nothing in it
    is damaged. `refused` is why the copy was not brought up to date
    though it could be reached: it and the store contradict each other. `is_there` is None where only asking another
    machine would show it.
    """

    name: str
    copy: Copy
    at: datetime | None
    missing_since: datetime | None
    left_out: int = 0
    damages: tuple[Damage, ...] = ()
    damaged: int = 0
    differs: bool = False
    refused: str = ""
    is_there: bool | None = None

    @property
    def is_gone(self) -> bool:
        """Whether nothing is in its place though something was written there."""
        return self.at is not None and self.is_there is False

    @property
    def state(self) -> str:
        """The gravest that is known of it: `refused`, `damaged`, `different`, `not there`, `behind`, `up to date`."""
        if self.refused:
            return "refused"
        if self.damaged:
            return "different" if self.differs else "damaged"
        if self.is_gone:
            return "missing"
        return "behind" if self.missing_since is not None else "up to date"

    @property
    def has_something(self) -> bool:
        """Whether there is something in its place that this store never wrote."""
        return self.at is None and self.is_there is True

    def behind(self, now: datetime) -> timedelta | None:
        """For how long something has been missing in it; None when nothing is."""
        return now - self.missing_since if self.missing_since else None

    def overdue(self, now: datetime) -> bool:
        """Whether it is further behind than its `max_lag`."""
        behind = self.behind(now)
        return behind is not None and behind > self.copy.max_lag

    @property
    def is_wrong(self) -> bool:
        """Whether it is more than behind: refused, damaged, different from the store, or not there."""
        return self.state not in ("behind", "up to date")

    def in_trouble(self, now: datetime) -> bool:
        """Whether somebody has to look at it."""
        return self.is_wrong or self.overdue(now)


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
        settings = [digest] if copy.carries_settings and digest else []
        is_there = _is_there(copy, estate)
        whole = bool(written) and is_there is not False
        whole = whole and int(written[1]) == number and _carried(written) == settings
        missing_since = None if whole else _missing_since(store, name, at, now)
        verified, refused = _verified(store, name), _refused(store, name)
        damages = tuple(Damage(*one) for one in verified.damages) if verified else ()
        found.append(
            CopyStatus(
                name,
                copy,
                at,
                missing_since,
                left_out,
                damages,
                len(damages) + (verified.more if verified else 0),
                verified is not None and verified.differs,
                refused.why if refused else _OLDER if is_there and _is_newer(copy, estate, store, ask=False) else "",
                is_there,
            )
        )
    return found


def _carried(written: Sequence[str]) -> list[str]:
    """The digest of the estate's own files, in what is remembered of a copy."""
    return [one for one in written[2:] if not one.startswith(_LEFT_OUT)]


def _is_there(copy: Copy, estate: Estate) -> bool | None:
    try:
        return _module_of(copy).is_there(copy, estate)
    except OSError:
        return False


def _is_newer(copy: Copy, estate: Estate, store: Store, *, ask: bool) -> bool:
    try:
        return _module_of(copy).is_newer(copy, estate, store, ask=ask) is True
    except Exception:  # whatever it is, it is the copy's own: what reads or writes it says so
        return False


def _heed_newer(estate: Estate, store: Store, *, ask: bool) -> list[str]:
    """The copies that hold what this store has lost: noted as refused, and no lost number is given again. StoreError.

    Without `ask` only copies on this machine are looked at.
    """
    newer = [name for name, copy in estate.copies.items() if _is_newer(copy, estate, store, ask=ask)]
    return [name for name in newer if _heed(estate, store, name)]


async def heed_in_time(estate: Estate, store: Store, *, ask: bool) -> list[str]:
    """The same, for a minute at most and beside everything else, as a copy's disk or server may hang.

    Raises StoreError, and OSError where it took too long, or where the look before has not come back.
    """

    def look() -> list[str]:
        with closing(store.another()) as own:
            return _heed_newer(estate, own, ask=ask)

    return await asyncio.wait_for(apart("newer copies", look), _ANSWERS_S)


def _heed(estate: Estate, store: Store, name: str) -> bool:
    """Note that the store is older than a copy, and which numbers are taken by what it lost; whether it is its copy."""
    try:
        held = holdings_of(estate, name, store)
    except HistoronError:
        return False  # what cannot be read is found by what reads it
    if held.store not in ("", store_identity(store)):
        return False
    note_refused(store, name, ContradictionError(_OLDER))  # first, as with the numbers it looks as new as the copy
    store.raise_numbers(held.last_numbers)
    return True


def _heed_refusal(estate: Estate, store: Store, name: str) -> None:
    """Where a copy holds what the store lacks, its numbers are taken: also one that is only reached by an update."""
    try:
        held = holdings_of(estate, name, store)
        if held.store == store_identity(store):
            store.raise_numbers(held.last_numbers)
    except HistoronError:
        pass  # the refusal stands


def _missing_since(store: Store, name: str, at: datetime | None, now: datetime) -> datetime:
    """When the first thing came that is missing in a copy: a version by its instant, else when it was first seen."""
    text = store.recall(ESTATE, _seen_topic(name))
    if text:
        return datetime.fromisoformat(text)
    good = (one.good_at for one in store.states().values())
    since = min((one for one in good if one and (at is None or one > at)), default=now)
    store.remember(ESTATE, _seen_topic(name), since.isoformat())
    return since


def bring_up_to_date(estate: Estate, name: str, now: datetime) -> Copied:
    """Copy the store, which is opened for it; may run in a thread of its own. Raises StoreError, OutsideError.

    Where the store and one of the copies contradict each other, RefusedError, and no other copy is changed either.
    """
    copy = estate.copies[name]
    if copy.mount is not None and not os.path.ismount(estate.path(copy.mount)):
        raise OutsideError(f"copy {name}: nothing is mounted at {estate.path(copy.mount)}", hint="mount it")
    with closing(open_store(estate)) as store:
        for other in estate.copies:
            refused = _refused(store, other)
            if other != name and refused is not None and refused.contradicts:
                hint = "historon copies --compare shows which places agree; the copy was not changed"
                raise RefusedError(f"the copy {other} contradicts the store: {refused.why}", hint=hint)
        verified = _verified(store, name)
        damaged = [Damage(*one) for one in verified.damages] if verified else []
        try:
            return _module_of(copy).update(copy, estate, store, now, damaged)
        except RefusedError:
            _heed_refusal(estate, store, name)
            raise
        except HistoronError:
            raise
        except OSError as exc:
            raise StoreError(
                f"{exc.filename or copy.place}: {exc.strerror}", hint="check whether it is writable"
            ) from exc
        except Exception as exc:  # a copy's failure, foreseen or not, is the copy's
            message = f"a defect in Historon itself: {where_raised(exc)}"
            raise StoreError(message, hint="report it, please; the store is unchanged") from exc


def verify_copy(estate: Estate, name: str, sample: int | None = None) -> Verification:
    """Read all that is in a copy, or so much of it, and check it. Raises StoreError, OutsideError."""
    copy = estate.copies[name]
    with closing(open_store(estate)) as store:
        written = (store.recall(ESTATE, _topic(name)) or "").split()
        settings = next(iter(_carried(written)), "") if copy.carries_settings else ""
        try:
            return _module_of(copy).verify(copy, estate, store, sample, settings)
        except OSError as exc:
            raise StoreError(
                f"{exc.filename or copy.place}: {exc.strerror}", hint="check whether it is readable"
            ) from exc


def holdings_of(estate: Estate, name: str, store: Store) -> Holdings:
    """What a copy says that it holds. Raises StoreError, OutsideError."""
    copy = estate.copies[name]
    try:
        return _module_of(copy).holdings(copy, estate, store)
    except OSError as exc:
        raise StoreError(f"{exc.filename or copy.place}: {exc.strerror}", hint="check whether it is readable") from exc


def fetch_copy(estate: Estate, name: str, folder: Path) -> list[Damage]:
    """Write all that is whole in a copy into a folder, as a copy of kind `store` is; returns what is not.

    Raises StoreError, OutsideError.
    """
    copy = estate.copies[name]
    try:
        return _module_of(copy).fetch(copy, estate, folder)
    except (OSError, ValueError, TypeError, OverflowError, RecursionError) as exc:
        message = f"{copy.place}: {getattr(exc, 'strerror', None) or 'it is not a copy, or it is damaged'}"
        raise StoreError(message, hint="take another copy") from exc


def _module_of(copy: Copy) -> CopyModule:
    return cast(CopyModule, module_of(copy))


def note_copied(store: Store, name: str, at: datetime, copied: Copied) -> None:
    """Note as of when a copy is, the instant at which copying began, and what it holds."""
    left_out = f"{_LEFT_OUT}{len(copied.left_out)}" if copied.left_out else ""
    words = [at.isoformat(), str(copied.changes), copied.settings, left_out]
    store.remember(ESTATE, _topic(name), " ".join(filter(None, words)))
    for topic in (_seen_topic(name), _refused_topic(name), _verified_topic(name)):
        store.remember(ESTATE, topic, "")  # what was damaged was written again, or the update had failed


def forget_copies(store: Store, estate: Estate) -> None:
    """Forget what copies hold, as they are another store's. StoreError."""
    for name in estate.copies:
        for topic in (_topic(name), _seen_topic(name), _refused_topic(name), _verified_topic(name)):
            store.remember(ESTATE, topic, "")


def note_refused(store: Store, name: str, error: Exception) -> None:
    """Note that a copy and the store contradict each other; any other failure leaves what is noted as it is."""
    if isinstance(error, RefusedError):
        told = _Refused(error.message, isinstance(error, ContradictionError))
        store.remember(ESTATE, _refused_topic(name), msgspec.json.encode(told).decode())


def _refused(store: Store, name: str) -> _Refused | None:
    text = store.recall(ESTATE, _refused_topic(name))
    return msgspec.json.decode(text, type=_Refused) if text else None


def note_verified(store: Store, name: str, at: datetime, found: Verification) -> None:
    """Note what a verification found. One that read only some, and found nothing, forgets nothing of one before."""
    damages: list[tuple[str, int | None, str, str]] = [("", None, "", one) for one in found.ledger]
    damages += [(one.source, one.number, one.part, one.problem) for one in found.damages]
    differs = not damages
    damages += [(one.source, one.number, one.part, one.problem) for one in found.differing]
    if damages:
        told = _Verified(at, damages[:_KEPT], max(0, len(damages) - _KEPT), differs)
        store.remember(ESTATE, _verified_topic(name), msgspec.json.encode(told).decode())
    elif found.sample_of is None:
        store.remember(ESTATE, _verified_topic(name), "")


def _verified(store: Store, name: str) -> _Verified | None:
    text = store.recall(ESTATE, _verified_topic(name))
    return msgspec.json.decode(text, type=_Verified) if text else None


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


def _refused_topic(name: str) -> str:
    return f"copy {name} refused"


def _verified_topic(name: str) -> str:
    return f"copy {name} verified"
