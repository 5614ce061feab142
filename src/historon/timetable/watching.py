"""What the service looks at all the time, whether anything runs or not: promises, the disk, and that all is well."""

import logging
import shutil
from collections import Counter
from collections.abc import Iterator, Mapping, Sequence
from datetime import datetime, timedelta
from functools import partial

from historon.copies import CopyStatus, copies_of
from historon.estate import Estate, describe
from historon.notices import Event, Teller, Watched
from historon.store import ESTATE, Store
from historon.timetable.health import Vitals
from historon.timetable.promises import SourceStatus, Standing, standings

__all__ = ["Lookout", "about_estate", "about_rounds", "many_sources"]

_LOG = logging.getLogger("historon.service")
_EVERY = timedelta(minutes=15)  # at most between two looks


class Lookout:
    """Looks at what may change though nothing runs: promises break, the disk fills up, copies fall behind, all is well.

    `copies_wanted` are those in which something is missing, `copy_troubles` what became of the last try.
    """

    def __init__(self, teller: Teller, store: Store, vitals: Vitals) -> None:
        self._teller = teller
        self._store = store
        self._vitals = vitals
        self._next: datetime | None = None
        self.copies_wanted: list[str] = []
        self.copy_troubles: dict[str, str] = {}

    def soon(self) -> None:
        """Look the next time, whatever the time: something has happened."""
        self._next = None

    def look(self, estate: Estate, since: Mapping[str, datetime], now: datetime) -> None:
        """Look, if it is time for that, and tell what is news. `since` is when sources came on schedule."""
        if self._next is not None and now < self._next:
            return
        board = standings(estate, list(estate.sources.values()), self._store, now)
        self._next = min(now + _EVERY, (_next_breach(board, now) or now + _EVERY) + timedelta(milliseconds=1))
        self._note(board)
        for event in self._teller.watch("promise", _about_promises(board, since, now)):
            kept = event.kind == "promise-kept"
            words = "kept again" if kept else "broken"
            _LOG.log(logging.INFO if kept else logging.WARNING, "the promise of %s is %s", event.source, words)
        self._watch("disk", _about_disk(estate, now))
        copies = copies_of(estate, self._store)
        self.copies_wanted = [one.name for one in copies if one.missing_since is not None]
        for one in copies:
            self._watch(f"copy {one.name}", _about_copy(one, self.copy_troubles.get(one.name, ""), now))
        if (well := _all_well_words(board)) and not any(one.broken(now) for one in copies):
            self._teller.tell_well(Event("all-well", now, well))

    def _watch(self, topic: str, look: Watched) -> None:
        for event in self._teller.watch(topic, [look]):
            _LOG.log(logging.INFO if event.kind == look.over else logging.WARNING, "%s", event.message)

    def _note(self, board: Sequence[SourceStatus]) -> None:
        confirmed = {one.source.name: one.state.confirmed_at for one in board}
        self._vitals.standings = Counter(one.standing for one in board)
        self._vitals.confirmed = {name: at for name, at in confirmed.items() if at is not None}
        self._vitals.waiting = self._teller.delivery.waiting()
        self._vitals.store_bytes = self._store.size()


def _about_promises(board: Sequence[SourceStatus], since: Mapping[str, datetime], now: datetime) -> Iterator[Watched]:
    """Of every source with a promise, whether it is kept; one that is paused is as people know it.

    `since` is from when on sources are on schedule: one that was never collected has the time of its promise from then.
    """
    for one in board:
        begins = since.get(one.source.name)
        new = one.age is None and begins is not None and one.source.promise and now - begins <= one.source.promise
        if one.standing not in (Standing.PAUSED, Standing.NONE) and not new:
            state = "promise-broken" if one.standing.trouble else ""
            yield Watched(one.source.name, state, "promise-kept", partial(_promise, one=one, now=now))


def _promise(kind: str, one: SourceStatus, now: datetime) -> Event:
    name = one.source.name
    if kind == "promise-kept":
        return Event(kind, now, "its last good version is as new as promised", name)
    age = f"is {describe(one.age)} old" if one.age is not None else "was never made"
    promise = describe(one.source.promise or timedelta())
    last = (f"last try: {one.state.note}",) if one.state.note else ()
    message = f"its last good version {age}, {promise} was promised"
    return Event(kind, now, message, name, look=f"historon rehearse {name}", details=last)


def _next_breach(board: Sequence[SourceStatus], now: datetime) -> datetime | None:
    """When the next promise breaks if nothing happens."""
    left = [
        one.source.promise - one.age for one in board
        if one.source.promise and one.age is not None and one.standing in (Standing.KEPT, Standing.CLOSE)
    ]  # fmt: skip
    return now + min(left) if left else None


def _about_disk(estate: Estate, now: datetime) -> Watched:
    """Whether the disk of the store has as much room as the settings ask to be told of."""
    store = estate.path(estate.settings.store)
    free, wanted = shutil.disk_usage(store).free, estate.settings.warn_free
    message = f"{store} has {free // 10**6:,} MB free"
    told = f"{message}, fewer than {wanted // 10**6:,} MB; no round begins below {estate.settings.free // 10**6:,} MB"

    def make(kind: str) -> Event:
        if kind == "disk-well":
            return Event(kind, now, message)
        return Event(kind, now, told, advice="make room, for example with historon prune; warn_free sets the limit")

    return Watched(ESTATE, "disk-low" if free < wanted else "", "disk-well", make)


def _about_copy(copy: CopyStatus, trouble: str, now: datetime) -> Watched:
    """Whether a copy has all that it was promised to have."""
    behind = copy.behind(now)

    def make(kind: str) -> Event:
        if kind == "copy-well":
            return Event(kind, now, f"{copy.name} has all versions")
        age = f"something has been missing in {copy.name} for {describe(behind or timedelta())}"
        message = f"{age}, {describe(copy.copy.promise)} was promised"
        last = (f"last try: {trouble}",) if trouble else ()
        return Event(kind, now, message, look=f"historon copies {copy.name} --update", details=last)

    return Watched(ESTATE, "copy-behind" if copy.broken(now) else "", "copy-well", make)


def about_estate(refusal: str, now: datetime) -> Watched:
    """Whether the estate file is refused, and why."""

    def make(kind: str) -> Event:
        if kind == "estate-accepted":
            return Event(kind, now, "it is in force")
        first, *more = refusal.splitlines()
        return Event(kind, now, "the one before stays in force", look="historon doctor", excerpt=(first, *more))

    return Watched(ESTATE, "estate-refused" if refusal else "", "estate-accepted", make)


def about_rounds(refusal: str, hint: str, now: datetime) -> Watched:
    """Whether rounds can begin at all, and if not why."""

    def make(kind: str) -> Event:
        return Event(kind, now, refusal or "what was in the way is gone", advice=hint)

    return Watched(ESTATE, "round-refused" if refusal else "", "rounds-again", make)


def _all_well_words(board: Sequence[SourceStatus]) -> str | None:
    """That nothing needs a hand, in words; None when something does."""
    if any(one.standing.trouble or one.ailing for one in board):
        return None
    promised = sum(one.source.promise is not None and one.standing is not Standing.PAUSED for one in board)
    paused = sum(one.standing is Standing.PAUSED for one in board)
    also = f", {paused} paused" if paused else ""
    return f"{many_sources(len(board))}{also}, {promised} with a promise, all kept; nothing needs a hand"


def many_sources(number: int) -> str:
    """So many sources, in words."""
    return f"{number:,} source{'s' * (number != 1)}"
