"""What the service looks at all the time, whether anything runs or not: ages, the disk, copies."""

import logging
import shutil
from collections import Counter
from collections.abc import Iterator, Mapping, Sequence
from datetime import datetime, timedelta
from functools import partial

from historon.base.errors import StoreError
from historon.base.quantities import size_text
from historon.copies import copies_of
from historon.estate import EVENT_KINDS, Estate, Severity, describe
from historon.notices import Event, Monitored, Notifier, about_copy
from historon.retention import PrunedByItself
from historon.store import ESTATE, Proof, Store, Unfinished, unfinished_pushes
from historon.timetable.conditions import OpenCondition, open_conditions
from historon.timetable.freshness import Freshness, SourceStatus, statuses
from historon.timetable.health import HealthFigures

__all__ = [
    "Monitor",
    "about_proof",
    "about_pruning",
    "about_rounds",
    "log_level",
    "many_sources",
    "pruned_event",
]

_LOG = logging.getLogger("historon.service")
_FROZEN = "frozen reported"  # the topic under which is remembered by which freeze a source was reported to be held
_NAMED = 8  # sources of which versions were removed
_OF_SOURCES = ("age-unknown", "not-described", "not-scheduled", "skipped-long")
_SETTLED = timedelta(hours=2)  # after its start a service has made up for what was missed
_EVERY = timedelta(minutes=15)  # at most between two looks


class Monitor:
    """Looks at what may change though nothing runs: versions get old, the disk fills up, copies fall behind.

    `copies_wanted` are those in which something is missing, `copy_troubles` what became of the last try.
    """

    def __init__(self, notifier: Notifier, store: Store, figures: HealthFigures) -> None:
        self._notifier = notifier
        self._store = store
        self._figures = figures
        self._next: datetime | None = None
        self.copies_wanted: list[str] = []
        self.copy_troubles: dict[str, str] = {}
        self._since: datetime | None = None
        self._unfinished: set[str] = set()  # sources that a push of this service's time left as nobody knows

    def soon(self) -> None:
        """Look the next time, whatever the time: something has happened."""
        self._next = None

    def copy_refused(self, estate: Estate, name: str, now: datetime) -> None:
        """Tell at once that a copy and the store contradict each other."""
        for one in copies_of(estate, self._store, now):
            if one.name == name:
                self._watch(f"copy {name}", about_copy(one, now))

    def look(self, estate: Estate, since: Mapping[str, datetime], now: datetime) -> None:
        """Look, if it is time for that, and tell what is news. `since` is when sources came on schedule."""
        if self._next is not None and now < self._next:
            return
        board = statuses(estate, list(estate.sources.values()), self._store, now)
        self._next = min(now + _EVERY, (_next_overdue(board, now) or now + _EVERY) + timedelta(milliseconds=1))
        self._note(board)
        for event in self._notifier.watch("age", _about_ages(board, since, now)):
            _LOG.log(log_level(event.kind), "%s: %s: %s", event.source, event.kind, event.message)
        self._tell_frozen(board, now)
        self._watch("disk", _about_disk(estate, now))
        copies = copies_of(estate, self._store, now)
        self.copies_wanted = [one.name for one in copies if one.missing_since is not None or one.damaged]
        for one in copies:
            self._watch(f"copy {one.name}", about_copy(one, now, self.copy_troubles.get(one.name, "")))
        left = {one.source: one for one in unfinished_pushes(self._store, now)}
        self._unfinished |= left.keys()
        for name in sorted(self._unfinished):
            self._watch("pushes", _about_push(name, left.get(name), now))
        self._unfinished &= left.keys()
        conditions = open_conditions(estate, self._store, now, board=board, copies=copies)
        self._figures.conditions = conditions
        self._watch_conditions(estate, conditions, now)
        if not conditions:
            self._notifier.tell_well(Event("all-well", now, _all_well_words(board)))

    def _watch_conditions(self, estate: Estate, conditions: Sequence[OpenCondition], now: datetime) -> None:
        """Tell of what is open and nothing else here tells of: when it begins, and when it is over."""
        is_open = {(one.kind, one.subject): one for one in conditions}
        self._since = self._since or now
        for kind, subjects in _subjects(estate).items():
            for subject in subjects:
                # What was due while no service ran is being made up for.
                settled = kind != "timetable-missed" or now - self._since > _SETTLED
                one = is_open.get((kind, subject)) if settled else None
                make = partial(_condition_event, one=one, subject=subject, now=now)
                self._watch(f"{kind} {subject}", Monitored(ESTATE, kind if one else "", "well-again", make))
        for kind in _OF_SOURCES:
            names = {*estate.sources, *(one.source for one in conditions if one.kind == kind)}
            looks = []
            for name in sorted(names):
                one = is_open.get((kind, name))
                make = partial(_condition_event, one=one, subject=name, now=now, source=name)
                looks.append(Monitored(name, kind if one else "", "known-again", make))
            for event in self._notifier.watch(kind, looks):
                _LOG.log(log_level(event.kind), "%s: %s", event.source, event.message)

    def _tell_frozen(self, board: Sequence[SourceStatus], now: datetime) -> None:
        """Once, when a freeze begins to outlast a source's max_age."""
        held = [one for one in board if one.freshness is Freshness.FROZEN and one.freeze is not None]
        if not held:
            return
        known = self._store.recall_all(_FROZEN)
        for one in held:
            if one.freeze is None or known.get(one.source.name) == str(one.freeze.from_):
                continue
            why = f": {one.freeze.why}" if one.freeze.why else ""
            words = f"until {one.freeze.to}{why}; it is {describe(one.age or timedelta())} old of {one.source.max_age}"
            self._notifier.tell(Event("frozen", now, words, one.source.name, look="historon agenda"))
            self._store.remember(one.source.name, _FROZEN, str(one.freeze.from_))

    def _watch(self, topic: str, look: Monitored) -> None:
        for event in self._notifier.watch(topic, [look]):
            _LOG.log(log_level(event.kind), "%s", event.message)

    def _note(self, board: Sequence[SourceStatus]) -> None:
        confirmed = {one.source.name: one.state.confirmed_at for one in board}
        self._figures.ages = Counter(one.freshness for one in board)
        self._figures.confirmed = {name: at for name, at in confirmed.items() if at is not None}
        self._figures.waiting = self._notifier.delivery.waiting()
        self._figures.store_bytes = self._store.size()


def _about_ages(board: Sequence[SourceStatus], since: Mapping[str, datetime], now: datetime) -> Iterator[Monitored]:
    """Of every source with a `max_age`, whether it is overdue.

    Nothing new is reported of one that is skipped, nor of one whose age a wrong clock hides.
    `since` is from when on sources are on schedule: one that was never collected has its `max_age` from then.
    """
    for one in board:
        begins = since.get(one.source.name)
        new = one.age is None and begins is not None and one.source.max_age and now - begins <= one.source.max_age
        if one.freshness not in (Freshness.SKIPPED, Freshness.NO_LIMIT, Freshness.UNKNOWN) and not new:
            state = "overdue" if one.freshness.trouble else ""
            yield Monitored(one.source.name, state, "fresh-again", partial(_age_event, one=one, now=now))


def _age_event(kind: str, one: SourceStatus, now: datetime) -> Event:
    name = one.source.name
    if kind == "fresh-again":
        return Event(kind, now, "its last good version is new enough again", name)
    if one.made_no_more:
        words = f"it stopped being made: its export is dated {describe(one.age or timedelta())} ago"
        message = f"{words}, max_age is {one.source.max_age}"
        return Event(kind, now, message, name, look=f"historon status {name}")
    age = f"is {describe(one.age)} old" if one.age is not None else "does not exist"
    last = (f"last try: {one.state.note}",) if one.state.note else ()
    message = f"its last good version {age}, max_age is {one.source.max_age}"
    return Event(kind, now, message, name, look=f"historon rehearse {name}", details=last)


def _next_overdue(board: Sequence[SourceStatus], now: datetime) -> datetime | None:
    """When the next source is overdue if nothing happens."""
    left = [
        one.source.max_age - one.age
        for one in board
        if one.source.max_age and one.age is not None and one.freshness in (Freshness.FRESH, Freshness.AGEING)
    ]
    return now + min(left) if left else None


def _about_push(source: str, left: Unfinished | None, now: datetime) -> Monitored:
    """Whether a push was left in the middle, so that nobody knows what the source holds."""

    def make(kind: str) -> Event:
        if left is None:
            return Event(kind, now, "its state is known again", source)
        name = f"{source}@{left.wanted}"
        advice = f"historon collect {source}; then historon push {name}, or back: historon push {source}@{left.before}"
        why = left.why or f"Historon ended while it pushed {name}"
        return Event(kind, now, why, source, advice, version=left.wanted)

    return Monitored(source, "push-failed" if left is not None else "", "recovered", make)


def _about_disk(estate: Estate, now: datetime) -> Monitored:
    """Whether the disk of the store has as much room as the settings ask for. StoreError when it is away."""
    store = estate.working_folder
    try:
        free, wanted = shutil.disk_usage(store).free, estate.settings.warn_free
    except OSError as exc:
        raise StoreError(f"{store}: {exc.strerror}", hint="check that its disk is mounted") from exc
    message = f"{store} has {size_text(free)} free"
    told = f"{message}, less than {size_text(wanted)}; collecting is blocked below {size_text(estate.settings.free)}"

    def make(kind: str) -> Event:
        if kind == "disk-well":
            return Event(kind, now, message)
        return Event(
            kind, now, told, advice="free some space, for example with historon prune; warn_free sets the limit"
        )

    return Monitored(ESTATE, "disk-low" if free < wanted else "", "disk-well", make)


def about_rounds(refusal: str, hint: str, now: datetime) -> Monitored:
    """Whether rounds can begin at all, and if not why."""

    def make(kind: str) -> Event:
        return Event(kind, now, refusal or "the cause is gone", advice=hint)

    return Monitored(ESTATE, "collecting-blocked" if refusal else "", "collecting-again", make)


def _subjects(estate: Estate) -> dict[str, list[str]]:
    """What conditions of the whole may be about, by their kind."""
    return {
        "timetable-missed": [f"timetable {name}" for name in estate.timetables],
        "channel-failing": [f"channel {name}" for name in estate.channels],
        "clock-doubtful": ["clock"],
        "heartbeat-failing": ["heartbeat"] if estate.settings.heartbeat is not None else [],
    }


def _condition_event(kind: str, one: OpenCondition | None, subject: str, now: datetime, source: str = "") -> Event:
    about = "" if source else f"{subject}: "
    words = one.words if one is not None else "all is well again"
    advice = one.advice if one is not None else ""
    return Event(kind, now, f"{about}{words}", source or None, advice, subject="" if source else subject)


def _all_well_words(board: Sequence[SourceStatus]) -> str:
    """That nothing needs action, and what that covers."""
    judged = sum(one.freshness in (Freshness.FRESH, Freshness.AGEING) for one in board)
    skipped = sum(one.freshness is Freshness.SKIPPED for one in board)
    held = sum(one.freshness is Freshness.FROZEN for one in board)
    unjudged = len(board) - judged - skipped - held
    also = [f"{judged} within max_age"]
    also += [f"{unjudged} without max_age"] if unjudged else []
    also += [f"{held} older than that, held by a freeze"] if held else []
    also += [f"{skipped} skipped"] if skipped else []
    covers = "copies, channels, timetables, clock and disk are well too"
    return f"{many_sources(len(board))}: {', '.join(also)}; {covers}; nothing needs action"


def log_level(kind: str) -> int:
    """The level at which an event of this kind is logged, as grave as it is; what is empty is well."""
    levels = {
        Severity.CRITICAL: logging.CRITICAL,
        Severity.ERROR: logging.ERROR,
        Severity.WARNING: logging.WARNING,
    }
    return levels.get(EVENT_KINDS[kind].severity, logging.INFO) if kind else logging.INFO


def many_sources(number: int) -> str:
    """So many sources, in words."""
    return f"{number:,} source{'s' * (number != 1)}"


def about_pruning(blocked: str, now: datetime) -> Monitored:
    """Whether pruning waits for a person, and why."""

    def make(kind: str) -> Event:
        if kind == "pruning-again":
            return Event(kind, now, "pruning has resumed")
        return Event(kind, now, blocked, advice="look at the plan, and confirm it: historon prune")

    return Monitored(ESTATE, "pruning-blocked" if blocked else "", "pruning-again", make)


def about_proof(source: str, version: int, proof: Proof, now: datetime) -> Monitored:
    """Whether a source's last good version is known to do; that it could not be tried is no better."""

    def make(kind: str) -> Event:
        if kind == "proven-again":
            return Event(kind, now, f"version {version}, {proof}", source)
        how = "failed its test" if proof.verdict == "failed" else "could not be tested"
        words = f"version {version} {how}: {proof.why}"
        return Event(
            kind, now, words, source, f"historon prove {source}", look=f"historon versions {source}", excerpt=proof.said
        )

    return Monitored(source, "" if proof.well else "not-proven", "proven-again", make)


def pruned_event(done: PrunedByItself, now: datetime) -> Event:
    """That versions were removed, and of which sources."""
    number = sum(done.by_source.values())
    names = [f"{name} ({n})" for name, n in sorted(done.by_source.items(), key=lambda one: (-one[1], one[0]))]
    more = f" and {len(names) - _NAMED} more" if len(names) > _NAMED else ""
    words = f"{number:,} version{'s' * (number != 1)} by retention: {', '.join(names[:_NAMED])}{more}"
    return Event("pruned", now, words)
