"""Which estate is in force: the one of the file, or the last accepted one where the file cannot be right.

The store remembers the files of the estate that was accepted last. So what a new file takes away is reported, a file
that lost many sources at once changes nothing until a person confirms it, and a file that is invalid still leaves
somebody to notify.
"""

from collections.abc import Callable
from contextlib import closing
from dataclasses import replace
from datetime import datetime
from pathlib import Path

from historon.base.errors import StoreError
from historon.estate import Estate, EstateError, differences
from historon.notices import DeliveryResult, Event, Monitored, Notifier
from historon.store import ESTATE, RETIRED, Store
from historon.timetable.accepted import (
    accepted_estate,
    described_again,
    is_accepted,
    last_accepted,
    memories_of,
    missing_from,
)

__all__ = ["about_estate", "about_writer", "estate_in_force", "report_refused"]

_NAMED = 12  # differences in a notice


def estate_in_force(estate: Estate, store: Store, notifier: Notifier, now: datetime) -> Estate:
    """The estate to collect by: this one, or the one before while too many sources are missing from this one.

    A new one is remembered, and what it has less of is reported, in one step. Raises StoreError.
    """
    notifier.watch("estate", [about_estate("", now)])
    if is_accepted(estate, store):
        if again := described_again(estate, store):
            store.remember_all(RETIRED, again)
        return estate
    was = accepted_estate(store, estate.file)
    missing = missing_from(was, estate, store)
    notifier.watch("missing sources", [_about_missing(missing, now)])
    if was is not None and missing:
        return replace(was, instead=("sources-missing", missing))
    less = differences(was, estate) if was is not None else []
    notifier.keep_with([_changed(less, now)] if less else [], memories_of(estate, store))
    return estate


def report_refused(
    file: Path, refusal: EstateError, open_store: Callable[[Estate], Store], clock: Callable[[], datetime]
) -> list[DeliveryResult]:
    """Report an invalid estate file to those whom the last accepted one names, where there is one."""
    estate = last_accepted(file, open_store)
    if estate is None:
        return []
    try:
        with closing(open_store(estate)) as store:
            notifier = Notifier(estate, store, clock)
            notifier.watch("estate", [about_estate(str(refusal), clock())])
            return list(notifier.delivery.deliver())
    except StoreError:
        return []


def about_estate(refusal: str, now: datetime) -> Monitored:
    """Whether the estate file is refused, and why."""

    def make(kind: str) -> Event:
        if kind == "estate-accepted":
            return Event(kind, now, "it is valid, and in effect")
        first, *more = refusal.splitlines()
        words = "it is invalid; the previous settings stay in effect"
        return Event(kind, now, words, look="historon doctor", excerpt=(first, *more))

    return Monitored(ESTATE, "estate-refused" if refusal else "", "estate-accepted", make)


def about_writer(refusal: str, now: datetime) -> Monitored:
    """Whether the store belongs to another estate, and to which."""

    def make(kind: str) -> Event:
        if kind == "well-again":
            return Event(kind, now, "the right estate writes to it again", subject="store")
        return Event(kind, now, refusal, look="historon store", subject="store")

    return Monitored(ESTATE, "store-claimed" if refusal else "", "well-again", make)


def _about_missing(missing: str, now: datetime) -> Monitored:
    def make(kind: str) -> Event:
        if kind == "well-again":
            return Event(kind, now, "the list of sources is complete, or its change was confirmed", subject="sources")
        advice = "put them back, or confirm: historon sources retire --missing --because REASON"
        return Event(kind, now, missing, advice=advice, subject="sources")

    return Monitored(ESTATE, "sources-missing" if missing else "", "well-again", make)


def _changed(less: list[str], now: datetime) -> Event:
    more = [f"and {len(less) - _NAMED} more"] if len(less) > _NAMED else []
    number = f"{len(less)} setting{'s' * (len(less) != 1)}"
    words = f"the new file is in effect; {number} became smaller, or different"
    return Event("estate-changed", now, words, details=(*less[:_NAMED], *more))
