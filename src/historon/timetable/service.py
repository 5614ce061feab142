"""The service: keeps the timetables, as long as it runs or once.

One service at a time keeps the timetables of a store. What it has dealt with is on record, source by source, so that
after a stop, however long, each source is collected once and not as often as it was missed.
"""

import asyncio
import logging
from collections import Counter
from collections.abc import Callable, Iterable, Mapping, Sequence
from contextlib import closing, suppress
from dataclasses import dataclass, replace
from datetime import datetime, timedelta
from functools import partial
from pathlib import Path

from historon.base.disk import clear_scratch
from historon.base.errors import HistoronError, OutsideError, RefusedError, StoreError
from historon.base.patience import lateness, note_lateness
from historon.base.processes import process_in_words, this_process
from historon.base.threads import StillBusyError, apart
from historon.base.times import utc_text
from historon.base.workers import Workers
from historon.collect import (
    Pen,
    RoundReport,
    Slots,
    SourceBegan,
    SourceResult,
    SourceStep,
    owing,
    resume_paused,
    run_round,
    settle_owed,
)
from historon.copies import bring_up_to_date, heed_in_time, note_copied, note_refused
from historon.estate import (
    AFTER_ROUNDS,
    Estate,
    EstateError,
    Source,
    describe,
    next_instants,
    read_estate,
)
from historon.notices import (
    DeliveryResult,
    Event,
    Monitored,
    NoticeError,
    Notifier,
    Outgoing,
    Sent,
    send,
    sign_of_life,
    state_of,
)
from historon.retention import PrunedByItself, prune_by_itself
from historon.store import (
    ESTATE,
    HEARTBEAT,
    PRUNING,
    RETIRED,
    TIMETABLE,
    Outcome,
    Proof,
    StillPaused,
    Store,
    at_work_topic,
    check_writer,
    note,
    still_paused,
)
from historon.timetable.acceptance import about_estate, about_writer, estate_in_force
from historon.timetable.accepted import last_accepted
from historon.timetable.conditions import is_well
from historon.timetable.due import due_instants
from historon.timetable.failed_start import forget_failed_start, report_failed_start
from historon.timetable.health import HealthFigures
from historon.timetable.monitoring import (
    Monitor,
    about_proof,
    about_pruning,
    about_rounds,
    log_level,
    many_sources,
    pruned_event,
)

__all__ = ["Service"]

_LOG = logging.getLogger("historon.service")
_LEASE = timedelta(seconds=60)
_TICK = timedelta(seconds=5)  # how long a changed file, a jump of the clock or a request to stop may go unnoticed
_TROUBLE = timedelta(seconds=30)
_NOT_TAKEN = timedelta(minutes=30)  # until a source is asked again of which the store did not take what was found
_RESUME_AGAIN = timedelta(minutes=5)  # between two tries to resume what was left paused
_JUMP = timedelta(minutes=1)  # by which a clock goes back before that is more than being set right
_STOP = timedelta(seconds=20)  # for rounds to clean up after themselves, and for the last notices
_STOP_BESIDE = timedelta(seconds=10)  # for what runs beside them
_SEND = timedelta(minutes=1)  # for one notice on one channel
_RESTLESS = timedelta(minutes=15)  # of rounds that never end together, as a source hangs in each
_MISSED = timedelta(hours=1)  # late, from which on a start reports it
_LOOKED_AT = 20  # rounds, of which some may not have ended
_TRIGGER = "timetable"
_RUNNING = "service"  # under which the ledger remembers that a service has not ended yet


@dataclass
class _Beside:
    """Something that is done between rounds: after them, or by a timetable."""

    wanted: bool = False
    _next: datetime | None = None

    def look(self, estate: Estate, when: str, now: datetime) -> None:
        """Whether its timetable says that it is time."""
        timetable = estate.timetables.get(when)
        if timetable is None:
            self._next = None
        elif self._next is None:
            (self._next,) = next_instants(timetable, estate.zone, now, 1)
        elif now >= self._next:
            self._next, self.wanted = None, True


class LeaseLostError(OutsideError):
    """Another service keeps the timetables, as this one was stopped for longer than its word was good for."""


class Service:
    """Keeps the timetables of one estate.

    `clock` gives the time in UTC, `open_store` the estate's store. `troubled` says whether anything went wrong in a
    round.
    """

    def __init__(
        self,
        file: Path,
        open_store: Callable[[Estate], Store],
        clock: Callable[[], datetime],
        *,
        tick: timedelta = _TICK,
        workers: Workers | None = None,
    ) -> None:
        """`tick` is how long a changed file, a jump of the clock or a request to stop may go unnoticed.

        `workers` look at what sources send; they are closed at the end.
        """
        self._file = file
        self._open_store = open_store
        self._clock = clock
        self._tick = tick
        self._holder = this_process()
        self._stop = asyncio.Event()
        self._rounds: set[asyncio.Task[None]] = set()
        self._busy: set[str] = set()
        self._due: dict[str, datetime] = {}  # since when sources wait for their turn in a round
        self._next: dict[str, datetime] = {}
        self._kept: dict[str, datetime] = {}
        self._new: dict[str, str] = {}
        self._being_written: dict[str, str] = {}
        self._writing: asyncio.Task[None] | None = None
        self._has_begun = False  # to keep the timetables
        self._taken = True  # whether the store has taken something since it was last in trouble
        self._delivery: asyncio.Task[None] | None = None
        self._copying: asyncio.Task[None] | None = None
        self._pruning: asyncio.Task[None] | None = None
        self._proving: asyncio.Task[None] | None = None
        self._prune, self._prove = _Beside(), _Beside()
        self._resuming: asyncio.Task[None] | None = None
        self._settling: asyncio.Task[None] | None = None
        self._calm = clock()  # when no round ran
        self._resume_again: dict[str, datetime] = {}
        self._refusal: EstateError | None = None  # of the file at the start
        self._offered: Estate | None = None  # by the file, whether in force or not
        self.troubled = False
        self.unsent = False
        self.figures = HealthFigures()
        self.workers = workers or Workers()
        self.workers.start()

    @property
    def refused(self) -> bool:
        """Whether the estate file was invalid at the start, so that the last accepted one was used."""
        return self._refusal is not None

    def stop(self) -> None:
        """End soon: rounds are interrupted cleanly."""
        self._stop.set()

    async def run(self, *, once: bool = False, wait: bool = False) -> None:
        """Keep the timetables until stopped; with `once` do what is due now and end.

        With `wait` it stands by for as long as another service keeps them, and takes over when that one is gone.
        Raises EstateError when the estate file is wrong at the start, StoreError when its store is not there, and
        OutsideError when another service keeps the timetables of this store.
        """
        self._seen = (_state_of(self._file), 0)
        refusal = self._read()
        try:
            self._store = self._open_store(self._estate)
        except StoreError as exc:
            for told in report_failed_start(self._estate, exc, self._clock()):
                self._report(told)
            raise
        forget_failed_start(self._estate)
        self._pen = self._store.another()  # for what is written in a thread
        self._rounds_pen = Pen(self._store.another())
        self._notifier = Notifier(self._estate, self._store, self._clock)
        self._monitor = Monitor(self._notifier, self._store, self.figures)
        self._refusal = refusal
        try:
            self._check_writer()
            while not self._stop.is_set():
                try:
                    return await self._serve(once=once, wait=wait)
                except LeaseLostError as exc:
                    if not wait:
                        raise
                    await self._stand_down(exc)
        finally:
            await self._end()

    def _check_writer(self) -> None:
        """StoreError where the store is another estate's; that is reported, too."""
        try:
            check_writer(self._store, self._file)
        except StoreError as exc:
            self._look("store", about_writer(exc.message, self._clock()))
            for told in self._notifier.delivery.deliver():
                self._report(told)
            raise
        self._look("store", about_writer("", self._clock()))

    def _read(self) -> EstateError | None:
        """Read the estate file; where it is invalid take the last accepted one, and return what is wrong."""
        try:
            self._estate = read_estate(self._file)
        except EstateError as exc:
            accepted = last_accepted(self._file, self._open_store)
            if accepted is None:
                raise
            _LOG.error("the estate file is invalid; the last accepted one is used: %s", exc)
            self._estate = _instead(accepted, exc)
            return exc
        return None

    def _accept(self, estate: Estate) -> None:
        """Take an estate file into force, unless too many sources are missing from it."""
        self._offered = estate
        self._estate = self._notifier.estate = estate_in_force(estate, self._store, self._notifier, self._clock())
        if self._estate is not estate:
            _LOG.error("sources are missing from the estate file; the previous one stays in effect")

    async def _serve(self, *, once: bool, wait: bool) -> None:
        """From the beginning to the end of keeping the timetables. LeaseLostError when another has taken them over."""
        if wait:
            await self._stand_by()
        else:
            self._take_lease(self._store)
        if self._stop.is_set():
            return
        self._end_rounds_of_others()
        if self._refusal is not None:
            self._look("estate", about_estate(str(self._refusal), self._clock()))
        else:
            self._accept(self._estate)
        if not once:
            self._tell_start()
        await self._heed_copies(ask=True)
        self._begin()
        if not once:
            self._tell_missed()
        self._settling = asyncio.create_task(self._settle_owed())
        await self._keep(once=once)
        if not once:
            words = f"{process_in_words(self._holder)}; it ended properly"
            self._notifier.tell(Event("service-stopped", self._clock(), words))
            self._store.remember(ESTATE, _RUNNING, "")

    def _end_rounds_of_others(self) -> None:
        """End the rounds of one that kept the timetables before, and is not dead: it records nothing in them now."""
        for one in self._store.rounds(_LOOKED_AT):
            if one.ended is not None or one.trigger != _TRIGGER or self._store.at_work(one) is False:
                continue
            if self._store.recall(ESTATE, at_work_topic(one.number)) != self._holder:
                self._store.end_round(one.number, self._clock())
                _LOG.warning("ended round %s of a service that is stopped", one.number)

    async def _stand_down(self, why: LeaseLostError) -> None:
        """Let go of all that was begun: another does it now."""
        _LOG.warning("%s; this one stands by", why.message)
        self._has_begun = False
        for task in self._rounds:
            task.cancel()
        if self._rounds:
            await asyncio.wait(self._rounds, timeout=_STOP.total_seconds())
        for slot in (self._busy, self._due, self._next, self._rounds, self._new, self._being_written):
            slot.clear()

    def _tell_start(self) -> None:
        """Tell that the service begins; and if the one before did not end as it should, that too."""
        clear_scratch()
        now = self._clock()
        before = self._store.recall(ESTATE, _RUNNING)
        if before:
            cut = [one.number for one in self._store.rounds() if one.ended is None and one.trigger == _TRIGGER]
            rounds = f"; interrupted: round {', '.join(map(str, cut))}" if cut else ""
            words = f"{before} did not end properly{rounds}"
            self._notifier.tell(Event("service-died", now, words, advice="look at its log of that time"))
        self._store.remember(ESTATE, _RUNNING, f"{process_in_words(self._holder)}, since {utc_text(now)}")
        self._notifier.tell_untold()
        self._notifier.tell(Event("service-started", now, process_in_words(self._holder)))

    def _tell_missed(self) -> None:
        """Report from when to when nothing was collected though something was due."""
        now = self._clock()
        due = [self._kept[name] for name, at in self._next.items() if at < now - _MISSED]
        if due:
            last = max(due)
            words = (
                f"{many_sources(len(due))} became due between {utc_text(last)} and {utc_text(now)}, and no service ran"
            )
            self._notifier.tell(Event("collecting-missed", now, f"{words}; they are collected now"))

    def _take_lease(self, store: Store) -> None:
        now = self._clock()
        other = store.lease(self._holder, now, now + _LEASE)
        if other:
            error = LeaseLostError if self._has_begun else OutsideError
            raise error(
                f"another service keeps the timetables of this store: {process_in_words(other)}",
                hint="stop that one, or wait a minute",
            )
        self._renewed = now
        self._has_begun = True

    async def _stand_by(self) -> None:
        """Wait until the lease is ours, or we are to end; in which case nothing was begun."""
        said = ""
        while not self._stop.is_set():
            try:
                self._take_lease(self._store)
                self._reload()
                return
            except (OutsideError, StoreError) as exc:
                if said != exc.message:
                    _LOG.info("waits to take over: %s", exc.message)
                said = exc.message
            with suppress(TimeoutError):
                await asyncio.wait_for(self._stop.wait(), _LEASE.total_seconds() / 12)

    def _begin(self) -> None:
        """Take up what is on record; a source that was never on schedule begins to be now."""
        now = self._clock()
        self._notifier.delivery.heed_clock()
        self._places = Slots(self._estate)
        begun = self.figures.begun_late
        self.figures.begun_late = {name: late for name, late in begun.items() if name in self._estate.sources}
        self.figures.last_round = next((one.ended for one in self._store.rounds() if one.ended), None)
        written = {**self._store.recall_all(TIMETABLE), **self._being_written, **self._new}
        known = {name: datetime.fromisoformat(text) for name, text in written.items()}
        scheduled = [source for source in self._estate.sources.values() if source.timetables]
        self._kept = {source.name: min(known.get(source.name, now), now) for source in scheduled}
        self._new |= {name: at.isoformat() for name, at in self._kept.items() if name not in known}
        planned, self._next = self._next, {}
        for source in scheduled:
            self._plan(source)
            # By a timetable that has just been changed nothing was missed before.
            coming = self._next.get(source.name)
            if coming is not None and coming <= now < planned.get(source.name, now):
                self._kept[source.name] = now
                self._new[source.name] = now.isoformat()
                self._plan(source)
        soonest = min(self._next.values(), default=None)
        when = f", the next at {utc_text(soonest)}" if soonest else ""
        _LOG.info("%s on schedule%s", many_sources(len(scheduled)), when)

    def _plan(self, source: Source) -> None:
        """Note when a source is due next; one that is frozen for good never is."""
        coming = next(due_instants(self._estate, source, self._kept[source.name]), None)
        if coming:
            self._next[source.name] = coming[0]

    async def _keep(self, *, once: bool) -> None:
        now = self._clock()
        while not self._stop.is_set():
            wait = self._tick
            try:
                if abs(self._clock() - self._renewed) > _LEASE:  # it was stopped: another may be at it
                    self._take_lease(self._store)
                self._reload()
                self._take_up_written()
                now = self._heed_clock(now)
                self._write_beside(renew=abs(now - self._renewed) > _LEASE / 3)
                self._resume_paused(now)
                self._start_due(now, once=once)
                self._monitor.look(self._estate, self._kept, now)
                self._look_beside(now)
                self._copy()
                self._deliver(now)
                wait = min([self._tick, *(at - now for name, at in self._next.items() if name not in self._busy)])
                if self._taken:
                    self.figures.trouble = ""
            except StoreError as exc:
                self._taken = False
                _LOG.error("the store is in trouble: %s; the next try is in %ss", exc, _TROUBLE.seconds)
                self._tell_trouble(exc)
                wait = _TROUBLE
            self.figures.late, self.figures.workers_lost = lateness(), self.workers.lost
            self.figures.awaited = dict(self._due)
            self.figures.seen, self.figures.next_due = self._clock(), min(self._next.values(), default=None)
            if once and not (
                self._rounds or self._prune.wanted or self._prove.wanted or self._beside - {self._writing}
            ):
                return
            await self._pause(max(wait, timedelta(milliseconds=50)))

    @property
    def _beside(self) -> set[asyncio.Task[None]]:
        """What runs beside the rounds."""
        tasks = (self._copying, self._pruning, self._proving, self._resuming, self._settling, self._writing)
        return {task for task in tasks if task}

    def _heed_clock(self, before: datetime) -> datetime:
        """The time; when it has gone back, what was dealt with in a time to come counts as dealt with now."""
        now = self._clock()
        if before - now > _JUMP:
            _LOG.warning("the clock was set back by %s", describe(before - now))
            self._begin()
            self._monitor.soon()
        return now

    def _tell_trouble(self, exc: StoreError) -> None:
        """Tell once that the store is in trouble, past the store if need be."""
        if not self.figures.trouble:
            self._notifier.tell(Event("store-trouble", self._clock(), exc.message, advice=exc.hint))
        self.figures.trouble = str(exc)
        with suppress(StoreError):
            self._deliver(self._clock())

    async def _pause(self, span: timedelta) -> None:
        """Wait this long, or until a round or a copy is done or somebody wants us to stop."""
        due = asyncio.get_running_loop().time() + span.total_seconds()
        stopped = asyncio.create_task(self._stop.wait())
        await asyncio.wait(
            {stopped, *self._rounds, *self._beside}, timeout=span.total_seconds(), return_when=asyncio.FIRST_COMPLETED
        )
        stopped.cancel()
        note_lateness(asyncio.get_running_loop().time() - due)
        for task in [task for task in self._rounds if task.done()]:
            self._rounds.discard(task)
            task.result()
        self._copying = _still_running(self._copying)
        self._pruning = _still_running(self._pruning)
        self._proving = _still_running(self._proving)
        self._resuming = _still_running(self._resuming)
        self._settling = _still_running(self._settling)

    def _reload(self) -> None:
        """Take up a changed estate file; one that is wrong is reported, and the one before stays in force."""
        seen = (_state_of(self._file), self._confirmed())
        if seen == self._seen:
            return
        self._seen = seen
        try:
            estate = read_estate(self._file)
        except EstateError as exc:
            _LOG.error("the estate file is invalid; the previous settings stay in effect: %s", exc)
            self._look("estate", about_estate(str(exc), self._clock()))
            self._estate = self._notifier.estate = _instead(self._estate, exc)
            self._monitor.soon()
            return
        if estate.settings.store != self._estate.settings.store:
            _LOG.error("the estate file names another store: restart the service for it")
            return
        self._accept(estate)
        self._monitor.soon()
        self._begin()

    def _confirmed(self) -> int:
        """How many sources a person retired, while that may put a new estate file into force."""
        return 0 if self._offered is self._estate else len(self._store.recall_all(RETIRED))

    def _resume_paused(self, now: datetime) -> None:
        """Resume what another process, or this one, left paused: at once, and then again every little while."""
        if self._resuming is not None:
            return
        lefts = still_paused(self._store, now)
        wanted = [one for one in lefts if self._resume_again.get(one.source, now) <= now]
        if wanted:
            self._resume_again |= {one.source: now + _RESUME_AGAIN for one in wanted}
            self._resuming = asyncio.create_task(self._resume(wanted))

    async def _settle_owed(self) -> None:
        """Put away what a process took that ended before it came to it, where no round does so now."""
        now = self._clock()
        due = {name for name, at in self._next.items() if at <= now}
        sources: list[Source] = []
        try:
            sources = owing(self._estate, self._store, but=self._busy | due)
            self._busy |= {source.name for source in sources}
            for wrong in await settle_owed(self._estate, self._store, self._clock, sources):
                _LOG.warning("%s", wrong)
        except StoreError as exc:
            _LOG.error("the store is in trouble: %s", exc)
        finally:
            self._busy -= {source.name for source in sources}

    async def _resume(self, lefts: Sequence[StillPaused]) -> None:
        try:
            found = await resume_paused(self._estate, self._store, self._clock, lefts)
            for one in found:
                _LOG.log(logging.CRITICAL if one.trouble else logging.WARNING, "%s", one)
            self.troubled = self.troubled or any(one.trouble for one in found)
            self._notifier.tell_resumed(found)
        except StoreError as exc:
            _LOG.error("the store is in trouble: %s", exc)

    def _start_due(self, now: datetime, *, once: bool) -> None:
        """Begin a round with what is due, and with what its timetables have spread over the time to come."""
        free = [self._estate.sources[name] for name in self._next if name not in self._busy]
        due = [source for source in free if self._next[source.name] <= now]
        if not due:
            return
        members = due if once else [*due, *self._spread(free, due)]
        delays = {source.name: max(timedelta(), self._next[source.name] - now) for source in members}
        for source in members:
            self._busy.add(source.name)
            self._due[source.name] = self._next.pop(source.name)
        _LOG.info("a round of %s begins", many_sources(len(members)))
        self._rounds.add(asyncio.create_task(self._round(members, delays)))

    def _spread(self, free: Sequence[Source], due: Sequence[Source]) -> list[Source]:
        """Sources that share a timetable with one that is due, and come later in the same spread."""
        ends: dict[str, datetime] = {}
        for source in due:
            for name in source.timetables:
                end = self._next[source.name] + self._estate.timetables[name].spread
                ends[name] = max(ends.get(name, end), end)
        begun = {source.name for source in due}
        waiting = [source for source in free if source.name not in begun]
        return [source for source in waiting if self._is_due_by(source, ends)]

    def _is_due_by(self, source: Source, ends: Mapping[str, datetime]) -> bool:
        """Whether a source comes within the spread of one of its timetables, whose ends these are."""
        due = self._next[source.name]
        return any(due <= ends[name] for name in source.timetables if name in ends)

    async def _heed_copies(self, *, ask: bool) -> None:
        """A store that is older than its copies gives no number again; bounded, as a copy's disk or server may hang."""
        if not self._estate.copies:
            return
        try:
            newer = await heed_in_time(self._estate, self._store, ask=ask)
        except (OSError, StoreError) as exc:
            _LOG.warning("the copies could not be examined: %s", exc)
            return
        for name in newer:
            _LOG.error("the store is older than copy %s", name)
            self._monitor.copy_refused(self._estate, name, self._clock())

    async def _round(self, sources: Sequence[Source], delays: Mapping[str, timedelta]) -> None:
        await self._heed_copies(ask=False)
        estate = self._estate
        try:
            report = await run_round(
                estate,
                sources,
                self._store,
                clock=self._clock,
                observer=self._observe,
                trigger=_TRIGGER,
                delays=delays,
                places=self._places,
                workers=self.workers,
                mark=TIMETABLE,
                pen=self._rounds_pen,
            )
        except HistoronError as exc:
            _LOG.error("the round could not begin: %s%s", exc.message, f" ({exc.hint})" if exc.hint else "")
            self.figures.blocked = exc.message
            self._look("rounds", about_rounds(exc.message, exc.hint, self._clock()))
            self._put_off(sources)
            return
        self.figures.blocked = ""
        self._look("rounds", about_rounds("", "", self._clock()))
        self._settle_due(report, sources)
        await self._report_on(report, estate)

    def _settle_due(self, report: RoundReport, sources: Sequence[Source]) -> None:
        """What a round did not come to, or could not write down, is due again later."""
        for result in () if report.interrupted else report.results:
            if result.waiting and result.source in self._busy:  # what waited there could not be taken
                self._deal_with(result.source)
        lost = {result.source for result in report.results if result.round is None}
        self._put_off([source for source in sources if source.name in self._busy - lost])
        self._put_off([source for source in sources if source.name in self._busy & lost], _NOT_TAKEN)

    async def _report_on(self, report: RoundReport, estate: Estate) -> None:
        """The log, the figures, and those who are to hear of the round."""
        _LOG.log(
            logging.WARNING if report.in_trouble else logging.INFO,
            "round %s ended: %s",
            report.number,
            _tally(report),
        )
        self.figures.rounds, self.figures.last_round = self.figures.rounds + 1, report.ended
        self.figures.outcomes = self.figures.outcomes + Counter(result.outcome for result in report.results)
        self.troubled = self.troubled or report.in_trouble
        with suppress(StoreError):
            self._notifier.tell_untold()
        known = bool(self.figures.trouble)
        if report.store_trouble:
            self.figures.trouble, self._taken = report.store_trouble, False
        self._notifier.end_round(replace(report, store_trouble="") if known else report)
        self._monitor.soon()
        self._prune.wanted |= estate.settings.prune == AFTER_ROUNDS
        self._prove.wanted |= estate.settings.prove == AFTER_ROUNDS
        with suppress(StillBusyError, StoreError):  # that one was reported, or will be when it comes back
            well = is_well(estate, self._store, self._clock())
            told = await apart("heartbeat", partial(sign_of_life, estate, report, well=well))
            self._report(told)
            if told is not None:
                note(self._store, HEARTBEAT, told.trouble or "", self._clock())

    def _observe(self, event: SourceBegan | SourceStep | SourceResult) -> None:
        """What is dealt with is remembered; what an interrupted round did not come to is still due."""
        if isinstance(event, SourceBegan):
            self._note_beginning(event.source)
        if isinstance(event, SourceStep):
            _LOG.debug("%s: %s took %s", event.source, event.place, describe(event.taken.took))
        if not isinstance(event, SourceResult):
            return
        self._notifier.hear(event)
        if event.source not in self._busy:
            return
        if event.outcome is Outcome.SKIPPED and self._stop.is_set():
            return
        if not event.waiting and event.round is not None:
            self._deal_with(event.source)
        told = event.failure or (event.note if event.outcome is Outcome.SUSPECT else None)
        word = event.outcome if told is None else f"{event.outcome}: {told}"
        _LOG.log(log_level(state_of(event)), "%s: %s", event.source, word)
        for one in event.unmet:
            _LOG.warning("%s: a requirement is not met: %s", event.source, one)

    def _note_beginning(self, name: str) -> None:
        due = self._due.pop(name, None)
        if due is not None:
            self.figures.begun_late[name] = max(timedelta(), self._clock() - due)

    def _deal_with(self, name: str) -> None:
        self._busy.discard(name)
        self._due.pop(name, None)
        self._kept[name] = self._clock()
        source = self._estate.sources.get(name)
        if source and source.timetables:
            self._plan(source)

    def _put_off(self, sources: Iterable[Source], by: timedelta = _TROUBLE * 2) -> None:
        """Sources that were not come to: due again soon, but not at once."""
        for source in sources:
            self._busy.discard(source.name)
            self._due.pop(source.name, None)
            if source.name in self._estate.sources and source.timetables:
                self._next[source.name] = self._clock() + by

    def _look(self, topic: str, look: Monitored) -> None:
        """Tell of one thing, if that is news; where the store cannot say what is, the log has it."""
        try:
            self._notifier.watch(topic, [look])
        except StoreError as exc:
            _LOG.error("the store is in trouble: %s", exc)

    def _deliver(self, now: datetime) -> None:
        """Send what is due, beside everything else; one channel that is slow does not hold up the rounds."""
        if self._delivery is not None and self._delivery.done():
            done, self._delivery = self._delivery, None  # gone before what went wrong in it is raised
            done.result()
        self._notifier.catch_up()
        if self._delivery is None and self._notifier.delivery.has_due(now):
            self._delivery = asyncio.create_task(self._send_due())

    async def _send_due(self) -> None:
        outgoing, estate, now = self._notifier.delivery.outgoing(), self._estate, self._clock()
        results = await asyncio.gather(*(_sent(one, estate, now) for one in outgoing))
        for one, result in zip(outgoing, results, strict=True):
            try:
                self._report(self._notifier.delivery.settle(one, result))
            except StoreError as exc:
                _LOG.error("the result of a notice to %s could not be recorded yet: %s", one.name, exc)
        self.figures.waiting = self._notifier.delivery.waiting()

    def _look_beside(self, now: datetime) -> None:
        """Prune and prove where it is time for it: between rounds, and in threads, beside everything else."""
        estate = self._estate
        self._prune.look(estate, estate.settings.prune, now)
        calm = self._is_calm(now)
        if self._prune.wanted and calm and self._pruning is None and self._copying is None:
            self._prune.wanted = False
            self._pruning = asyncio.create_task(self._prune_now(estate, now))
        self._prove.look(estate, estate.settings.prove, now)
        if self._prove.wanted and calm and self._proving is None and self._pruning is None:
            self._prove.wanted = False
            self._proving = asyncio.create_task(self._prove_now(estate, now))

    def _is_calm(self, now: datetime) -> bool:
        """Whether no round runs, or there was always one for so long that what is done between them waits no more."""
        if not self._rounds:
            self._calm = now
        return not self._rounds or abs(now - self._calm) > _RESTLESS

    async def _prove_now(self, estate: Estate, now: datetime) -> None:
        anew = estate.settings.prove != AFTER_ROUNDS

        def work() -> dict[str, tuple[int, Proof]]:
            from historon.restore import prove_by_itself

            with closing(self._open_store(estate)) as store:
                found = prove_by_itself(estate, store, now, anew=anew)
                return {name: (store.state(name).good or 0, proof) for name, proof in found.items()}

        try:
            done = await apart("proving", work)
        except (HistoronError, StillBusyError) as exc:
            _LOG.error("proving: %s", exc)
            return
        looks = [about_proof(name, version, proof, now) for name, (version, proof) in done.items()]
        self._notifier.watch("proofs", looks)
        for name, (version, proof) in done.items():
            if not proof.well:
                _LOG.warning("%s@%s: %s", name, version, proof)

    async def _prune_now(self, estate: Estate, now: datetime) -> None:
        def work() -> PrunedByItself:
            with closing(self._open_store(estate)) as store:
                return prune_by_itself(estate, store, now)

        try:
            done = await apart("pruning", work)
        except (HistoronError, StillBusyError) as exc:
            _LOG.error("pruning: %s", exc)
            return
        if done.blocked:
            _LOG.warning("pruning is paused until somebody confirms it: %s", done.blocked)
        self._look("pruning", about_pruning(done.blocked, now))
        with suppress(StoreError):
            note(self._store, PRUNING, done.blocked, now)
        if done.pruned:
            event = pruned_event(done, now)
            _LOG.info("pruned: %s", event.message)
            self._notifier.tell(event)
            self._monitor.soon()

    def _copy(self) -> None:
        """Bring copies up to date in which something is missing, one after another, beside everything else."""
        if (
            self._copying is None
            and self._pruning is None
            and self._monitor.copies_wanted
            and self._is_calm(self._clock())
        ):
            wanted, self._monitor.copies_wanted = self._monitor.copies_wanted, []
            self._copying = asyncio.create_task(self._copy_all(wanted))

    async def _copy_all(self, names: Sequence[str]) -> None:
        for name in names:
            at = self._clock()
            try:
                copied = await apart(f"copy {name}", bring_up_to_date, self._estate, name, at)
                note_copied(self._store, name, at, copied)
            except (HistoronError, StillBusyError) as exc:
                self._monitor.copy_troubles[name] = exc.message if isinstance(exc, HistoronError) else exc.words
                _LOG.error("copy %s: %s", name, exc)
                note_refused(self._store, name, exc)
                if isinstance(exc, RefusedError):
                    self._monitor.copy_refused(self._estate, name, self._clock())
            else:
                self._monitor.copy_troubles.pop(name, None)
                self._monitor.soon()
                _LOG.info("copy %s: up to date, %s versions", name, copied.versions)

    def _report(self, told: DeliveryResult | None) -> None:
        if told is not None and told.trouble:
            self.unsent = True
            _LOG.error("notice not sent to %s: %s", told.channel, told.trouble)

    def _write_beside(self, *, renew: bool = False) -> None:
        """Write down who is new on schedule, and that this service runs: in a thread, as another may be writing."""
        if self._writing is None and (self._new or renew):
            self._being_written, self._new = self._new, {}
            self._writing = asyncio.create_task(self._write(renew=renew))

    async def _write(self, *, renew: bool) -> None:
        if self._being_written:
            await asyncio.to_thread(self._pen.remember_all, TIMETABLE, self._being_written)
            self._being_written = {}
        if renew:
            await asyncio.to_thread(self._take_lease, self._pen)

    def _take_up_written(self) -> None:
        """Raises what went wrong with it; who is new is then still known, and written later."""
        if self._writing is not None and self._writing.done():
            written, self._writing = self._writing, None
            self._new, self._being_written = {**self._being_written, **self._new}, {}
            written.result()
            self._taken = True

    def _flush(self) -> None:
        """Write down who is new on schedule, if that was not done yet."""
        dealt = {**self._being_written, **self._new}
        if dealt:
            self._store.remember_all(TIMETABLE, dealt)

    async def _end(self) -> None:
        for task in self._rounds:
            task.cancel()
        if self._rounds:
            await asyncio.wait(self._rounds, timeout=_STOP.total_seconds())
        if self._beside:
            await asyncio.wait(self._beside, timeout=_STOP_BESIDE.total_seconds())
        if self._has_begun:  # otherwise all that is to be reported is another one's
            try:
                await self._send_last()
                self._flush()
                self._store.release(self._holder)
            except StoreError as exc:
                _LOG.error("the store is in trouble: %s", exc)
        self._store.close()
        self.workers.close()
        _LOG.info("the service has ended")

    async def _send_last(self) -> None:
        """What is due is sent before the end, as far as that goes in time; what is left is in the outbox."""
        try:
            async with asyncio.timeout(_STOP.total_seconds()):
                if self._delivery is not None:
                    await self._delivery
                await self._send_due()
        except TimeoutError:
            _LOG.warning("not all notices were sent; they will be sent when a service runs again")


def _instead(estate: Estate, refusal: EstateError) -> Estate:
    """The estate that stays in force while the file is invalid."""
    first = str(refusal).splitlines()[0]
    return replace(estate, instead=("estate-refused", f"{first}; the previous settings stay in effect"))


def _still_running(task: asyncio.Task[None] | None) -> asyncio.Task[None] | None:
    """The task, or None once it is done. Raises what went wrong in it."""
    if task is None or not task.done():
        return task
    task.result()
    return None


async def _sent(one: Outgoing, estate: Estate, now: datetime) -> Sent | NoticeError:
    """What became of it, within a time after which the others are not kept waiting."""
    own = one.channel.takes
    try:
        async with asyncio.timeout((_SEND + own).total_seconds()):
            return await apart(f"channel {one.name}", send, one, estate, now)
    except TimeoutError:
        return NoticeError(f"it took longer than {describe(_SEND + own)}", hint="it will be tried again")
    except StillBusyError as exc:
        return NoticeError(exc.words, hint="it will be tried again")


def _tally(report: RoundReport) -> str:
    parts = [f"{number} {outcome}" for outcome, number in report.tally.items()]
    return ", ".join(parts) or "nothing"


def _state_of(file: Path) -> tuple[tuple[str, int, int], ...]:
    """By what it is known that the estate file, or a file beside it that it may name, has changed."""
    found = []
    for one in sorted({file, *file.parent.glob("*.csv"), *file.parent.glob("*/*.toml")}):
        try:
            stat = one.stat()
        except OSError:
            continue
        found.append((str(one), stat.st_mtime_ns, stat.st_size))
    return tuple(found)
