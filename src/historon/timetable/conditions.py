"""All that is open now, in one list: whoever says how things stand says it from here. All is well when it is empty.

Each condition is of a kind of event, so that it is as grave here as where people are notified of it.
"""

import shutil
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta
from typing import TYPE_CHECKING

from historon.base.errors import OutsideError
from historon.base.quantities import size_text
from historon.collect.preconditions import check_preconditions
from historon.estate import EVENT_KINDS, Estate, Severity, Timetable, after_hours, describe, instants
from historon.retention import clock_doubt
from historon.store import (
    HEARTBEAT,
    NEVER_TRIED,
    PRUNING,
    RETIRED,
    TIMETABLE,
    Notice,
    NoticeState,
    Outcome,
    SourceState,
    Store,
    losses_of,
    noted,
    still_paused,
    stranger,
    unfinished_pushes,
)
from historon.timetable.accepted import what_is_missing
from historon.timetable.due import frozen
from historon.timetable.freshness import Freshness, SourceStatus, statuses

if TYPE_CHECKING:
    from historon.copies import CopyStatus

__all__ = ["OpenCondition", "is_well", "missed_timetables", "open_conditions"]

_LATE = timedelta(hours=1)  # after its spread, from which on a timetable is not kept: rounds take their time
_LOOKED_BACK = tuple(timedelta(days=days) for days in (1, 8, 40, 400))
_SLOW = timedelta(hours=1)  # from which on a notice that waits means that its channel does not deliver
_LOST = timedelta(days=7)  # for which a notice that nobody got is named
_RECENT = 200  # notices
_SKIPPED = timedelta(days=90)  # from which on a skip may be forgotten
_TO_PROVE = timedelta(days=8)  # for a new version to be tested by a service, also by a weekly timetable
_NAMED = 3


@dataclass(frozen=True)
class OpenCondition:
    """Something that needs attention: of which kind, what it is about, since when (UTC, None where nobody knows).

    `source` is set where it is about one; otherwise `subject` says what it is about, such as `copy far`.
    """

    kind: str
    subject: str
    words: str
    since: datetime | None = None
    advice: str = ""
    source: str = ""

    @property
    def severity(self) -> Severity:
        """How grave it is."""
        return EVENT_KINDS[self.kind].severity

    @property
    def is_grave(self) -> bool:
        """Whether it is an error at least, and not only a warning."""
        return self.severity <= Severity.ERROR

    @property
    def is_new(self) -> bool:
        """Whether it is a source that was never collected."""
        return self.kind == "overdue" and self.since is None

    def __str__(self) -> str:
        return f"{self.subject}: {self.words}"


def open_conditions(
    estate: Estate,
    store: Store,
    now: datetime,
    *,
    board: Sequence[SourceStatus] | None = None,
    copies: "Sequence[CopyStatus] | None" = None,
) -> list[OpenCondition]:
    """All that is open, the gravest first; with `board` and `copies`, where somebody has looked at these already.

    Raises StoreError.
    """
    if board is None:
        board = statuses(estate, list(estate.sources.values()), store, now)
    if copies is None and estate.copies:
        from historon.copies import copies_of

        copies = copies_of(estate, store, now)
    states = store.states()
    found = [
        *_of_surroundings(estate, store, now),
        *_of_pauses(store, now),
        *_of_sources(estate, board, now),
        *_of_strangers(estate, store, states),
        *_off_schedule(estate, store, now),
        *_of_timetables(estate, store, states, now),
        *_of_copies(copies or (), states, store, now),
        *_of_channels(estate, store, now),
    ]
    return sorted(found, key=lambda one: (one.severity, one.subject))


def is_well(estate: Estate, store: Store, now: datetime) -> bool:
    """Whether a sign of life may be given: nothing is open, but that the last sign did not arrive. StoreError."""
    return all(one.kind == "heartbeat-failing" for one in open_conditions(estate, store, now))


def _of_surroundings(estate: Estate, store: Store, now: datetime) -> Iterator[OpenCondition]:
    """The disk, the clock, and what the service found in the way when it last tried."""
    try:
        check_preconditions(estate)
        free, wanted = shutil.disk_usage(estate.working_folder).free, estate.settings.warn_free
        if free < wanted:
            words = f"{estate.working_folder} has {size_text(free)} free, less than {size_text(wanted)}"
            yield OpenCondition("disk-low", "disk", words, advice="free some space; warn_free sets the limit")
    except OutsideError as exc:
        yield OpenCondition("collecting-blocked", "rounds", exc.message, advice=exc.hint)
    except OSError as exc:
        yield OpenCondition("collecting-blocked", "rounds", f"{exc.filename}: {exc.strerror}")
    other = stranger(store, estate.file)
    if other:
        yield OpenCondition("store-claimed", "store", other, advice="historon store")
    missing = what_is_missing(estate, store)
    kind, words = estate.instead or ("sources-missing" if missing else "", missing)
    if kind:
        confirm = "put them back, or confirm: historon sources retire --missing --because REASON"
        yield OpenCondition(kind, "estate", words, advice="historon doctor" if kind == "estate-refused" else confirm)
    doubt = clock_doubt(store, now)
    if doubt:
        yield OpenCondition("clock-doubtful", "clock", doubt, advice="set the clock; ages mean nothing until then")
    blocked = noted(store, PRUNING)
    if blocked is not None:
        advice = "look at the plan, and confirm it: historon prune"
        yield OpenCondition("pruning-blocked", "pruning", blocked[1], blocked[0], advice)
    silent = noted(store, HEARTBEAT)
    if silent is not None and estate.settings.heartbeat is not None:
        yield OpenCondition(
            "heartbeat-failing", "heartbeat", silent[1], silent[0], "check whether its address is still valid"
        )


def _of_pauses(store: Store, now: datetime) -> Iterator[OpenCondition]:
    """Services and devices that were left in the middle of something, and what a store made from a copy lacks."""
    for paused in still_paused(store, now):
        advice = f"resume it by hand, now: {paused.words}"
        words = "its service was paused and is NOT RESUMED"
        yield OpenCondition("not-resumed", paused.source, words, paused.since, advice, paused.source)
    for push in unfinished_pushes(store, now):
        words = push.why or f"it may be between two versions: a push of {push.source}@{push.wanted} did not end"
        yield OpenCondition(
            "push-failed", push.source, words, push.since, f"historon collect {push.source}", push.source
        )
    lost = losses_of(store)
    if lost:
        more = f" and {len(lost) - _NAMED} more" if len(lost) > _NAMED else ""
        words = f"lost with the copy that the store was made from: {', '.join(map(str, lost[:_NAMED]))}{more}"
        yield OpenCondition("store-damaged", "store", words, advice="accept the loss: historon verify --accept-losses")


_TRIED = {Outcome.FAILED: ("failing", "the last try failed"), Outcome.SUSPECT: ("suspect", "the last try is suspect")}


def _of_sources(estate: Estate, board: Sequence[SourceStatus], now: datetime) -> Iterator[OpenCondition]:
    for one in board:
        yield from _of_age(one, now)
        name, state = one.source.name, one.state
        if one.ailing and state.outcome is not None:
            kind, words = _TRIED[state.outcome]
            words = f"never collected; {words}" if state.good is None else words
            words = f"{words}: {state.note}" if state.note else words
            yield OpenCondition(kind, name, words, state.outcome_at, f"historon rehearse {name}", name)
        if not one.as_required and state.good is not None:
            words = f"its requirements are {one.requirements}"
            yield OpenCondition("requirement-failed", name, words, None, f"historon requirements {name}", name)
        if one.proof is not None and one.proof.verdict == NEVER_TRIED and estate.settings.prove and _is_due(one, now):
            words = "its last good version was never tested, though prove is set: is the service running?"
            yield OpenCondition("not-proven", name, words, None, f"historon prove {name}", name)
        if one.unproven:
            words = f"its last good version is not proven: {one.proof}"
            yield OpenCondition("not-proven", name, words, None, f"historon prove {name}", name)


def _is_due(one: SourceStatus, now: datetime) -> bool:
    """Whether a version is old enough to have been tested since."""
    return one.state.good_at is not None and now - one.state.good_at > _TO_PROVE


def _of_age(one: SourceStatus, now: datetime) -> Iterator[OpenCondition]:
    name, limit = one.source.name, one.source.max_age
    endless = one.freshness is Freshness.SKIPPED and one.source.skip_until is None
    if endless and (one.age is None or one.age > _SKIPPED):
        age = f"its last good version is {describe(one.age)} old" if one.age is not None else "never collected"
        words = f"it is skipped without an end ({one.source.skip}), and {age}"
        yield OpenCondition("skipped-long", name, words, None, "remove skip, or add skip_until with a date", name)
    if one.freshness is Freshness.UNKNOWN:
        words = "its age is unknown: " + ("made in the future, by this machine's clock" if one.age else "no date")
        yield OpenCondition("age-unknown", name, words, None, "historon status shows it", name)
    never = one.state.good is None and one.freshness is not Freshness.SKIPPED and not one.ailing
    if never and (one.source.max_age is not None or one.source.timetables):
        yield OpenCondition("overdue", name, "never collected", None, f"historon rehearse {name}", name)
    if one.freshness is Freshness.OVERDUE and one.age is not None and limit is not None:
        made = "; the source makes no new export" if one.made_no_more else ""
        words = f"its last good version is {describe(one.age)} old, max_age is {limit}{made}"
        yield OpenCondition("overdue", name, words, now - one.age + limit, f"historon rehearse {name}", name)


def _off_schedule(estate: Estate, store: Store, now: datetime) -> Iterator[OpenCondition]:
    """Sources that a timetable was kept for, and that have none any more: one may have been removed by mistake."""
    for name in store.recall_all(TIMETABLE):
        source = estate.sources.get(name)
        if source is not None and not source.timetables and not estate.is_skipped(source, now):
            words = "it had a timetable, and has none any more"
            yield OpenCondition("not-scheduled", name, words, None, "give it a timetable, or collect it by hand", name)


def _of_strangers(estate: Estate, store: Store, states: dict[str, SourceState]) -> Iterator[OpenCondition]:
    """Sources that have versions and are no longer described: a list may have been cut."""
    retired = store.recall_all(RETIRED)
    for name, state in states.items():
        if state.good is not None and name not in estate.sources and name not in retired:
            words = "it has versions, but is missing from the estate file: nothing collects it"
            advice = f"add it again, or: historon sources retire {name} --because REASON"
            yield OpenCondition("not-described", name, words, None, advice, name)


# ---- what should have happened ---------------------------------------------------------------------------------------


def _of_timetables(
    estate: Estate, store: Store, states: dict[str, SourceState], now: datetime
) -> Iterator[OpenCondition]:
    """Timetables by which something was due, and nobody came to it."""
    kept = store.recall_all(TIMETABLE)
    for name, timetable in estate.timetables.items():
        due = _last_due(timetable, estate, now)
        if due is None:
            continue
        missed = []
        for source in estate.sources.values():
            if name not in source.timetables or estate.is_skipped(source, now) or frozen(estate, source, due):
                continue
            state = states.get(source.name, SourceState(source.name))
            known = datetime.fromisoformat(kept[source.name]) if source.name in kept else state.good_at
            if known is not None and max(known, state.outcome_at or known) < due:
                missed.append(source.name)
        if missed:
            more = f" and {len(missed) - _NAMED} more" if len(missed) > _NAMED else ""
            words = f"{', '.join(missed[:_NAMED])}{more}: not collected in time; is the service running?"
            yield OpenCondition("timetable-missed", f"timetable {name}", words, due, "historon serve keeps it")


def missed_timetables(estate: Estate, store: Store, now: datetime) -> list[OpenCondition]:
    """The timetables by which something was due, and nobody came to it: what is planned may not happen. StoreError."""
    return list(_of_timetables(estate, store, store.states(), now))


def _last_due(timetable: Timetable, estate: Estate, now: datetime) -> datetime | None:
    """The last instant of a timetable that its spread, quiet hours and a round that takes long are over for."""
    until = now - _LATE - timetable.spread
    for span in _LOOKED_BACK:
        last = None
        for at in instants(timetable, estate.zone, until - span):
            if after_hours(at + timetable.spread, timetable.quiet, estate.zone) + _LATE > now:
                break
            last = at
        if last is not None:
            return last
    return None


# ---- second places and channels --------------------------------------------------------------------------------------


def _of_copies(
    copies: "Sequence[CopyStatus]", states: dict[str, SourceState], store: Store, now: datetime
) -> Iterator[OpenCondition]:
    empty = not any(state.good is not None for state in states.values()) and not store.rounds(1)
    for one in copies:
        if empty and one.has_something:
            words = f"the store is empty, and copy {one.name} was written from another: is it the right store?"
            advice = "rebuild it from the copy: docs/lost-machine.md"
            yield OpenCondition("store-damaged", "store", words, None, advice)
        elif one.in_trouble(now):
            yield _of_copy(one, now)


def _of_copy(one: "CopyStatus", now: datetime) -> OpenCondition:
    from historon.notices import about_copy

    look = about_copy(one, now)
    if not look.state:
        words, advice = "the copy is not at its location any more", f"historon copies {one.name} --update"
        return OpenCondition("copy-behind", f"copy {one.name}", words, one.missing_since, advice)
    event = look.make(look.state)
    return OpenCondition(
        look.state, f"copy {one.name}", event.message, one.missing_since, f"historon copies {one.name}"
    )


def _of_channels(estate: Estate, store: Store, now: datetime) -> Iterator[OpenCondition]:
    """Channels that do not deliver, and notices that reached nobody recently."""
    slow: dict[str, Notice] = {}
    for one in store.outbox.waiting():
        if one.channel in estate.channels and one.tries and now - one.at > _SLOW:
            slow.setdefault(one.channel, one)
    for name, one in slow.items():
        words = f"it does not deliver: {one.answer or 'no answer'}"
        yield OpenCondition("channel-failing", f"channel {name}", words, one.at, "historon notices")
    for one in store.outbox.last(_RECENT):
        lost = one.fate in (NoticeState.EXPIRED, NoticeState.REFUSED) and now - one.at < _LOST
        if lost and one.channel in estate.channels and one.channel not in slow:
            words = f'"{one.subject}" was delivered to nobody: {one.answer or "no answer"}'
            yield OpenCondition("channel-failing", f"channel {one.channel}", words, one.at, "historon notices")
            slow[one.channel] = one
