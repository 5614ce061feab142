"""The service: keeps the timetables, as long as it runs or once.

One service at a time keeps the timetables of a store. What it has dealt with is on record, source by source, so that
after a stop, however long, each source is collected once and not as often as it was missed. Its duties are classes of
their own: `schedule` (what is due), `lease`, `watched` (the estate file), `inherited` (what other processes left),
`sending`, `upkeep` (pruning, proofs, copies) and `monitoring`.
"""

import asyncio
import logging
from collections import Counter
from collections.abc import Callable, Mapping
from contextlib import suppress
from dataclasses import replace
from datetime import datetime, timedelta
from functools import partial
from pathlib import Path

from historon.base.disk import clear_scratch
from historon.base.errors import HistoronError, StoreError
from historon.base.patience import lateness, note_lateness
from historon.base.processes import process_in_words
from historon.base.quantities import utc_text
from historon.base.threads import StillBusyError, apart
from historon.base.workers import Workers
from historon.collect import Pen, RoundReport, Slots, SourceBegan, SourceResult, SourceStep, run_round
from historon.copies import heed_in_time
from historon.estate import Estate, Source, describe
from historon.notices import Event, Notifier, sign_of_life, state_of
from historon.store import ESTATE, HEARTBEAT, TIMETABLE, Outcome, Store, check_writer, note
from historon.timetable.acceptance import about_writer
from historon.timetable.beside import Beside
from historon.timetable.conditions import is_well
from historon.timetable.desk import LOG, Desk, log_unsent
from historon.timetable.failed_start import forget_failed_start, report_failed_start
from historon.timetable.health import HealthFigures
from historon.timetable.inherited import Inherited
from historon.timetable.lease import LEASE, Lease, LeaseLostError
from historon.timetable.monitoring import Monitor, about_rounds, log_level, many_sources
from historon.timetable.schedule import Schedule
from historon.timetable.sending import Sending
from historon.timetable.upkeep import Upkeep
from historon.timetable.watched import WatchedFile

__all__ = ["Service"]

_TICK = timedelta(seconds=5)  # how long a changed file, a jump of the clock or a request to stop may go unnoticed
_TROUBLE = timedelta(seconds=30)
_NOT_TAKEN = timedelta(minutes=30)  # until a source is asked again of which the store did not take what was found
_JUMP = timedelta(minutes=1)  # by which a clock goes back before that is more than being set right
_STOP = timedelta(seconds=20)  # for rounds to clean up after themselves, and for the last notices
_STOP_BESIDE = timedelta(seconds=10)  # for what runs beside them
_TRIGGER = "timetable"
_RUNNING = "service"  # under which the ledger remembers that a service has not ended yet
_WRITE = "writing"
_AWAITED = ("copying", "pruning", "proving", "resuming", "settling")  # of which the end is taken up between two looks


class Service:
    """Keeps the timetables of one estate.

    `clock` returns the current instant (UTC), `open_store` the estate's store.
    """

    def __init__(
        self,
        file: Path,
        open_store: Callable[[Estate], Store],
        clock: Callable[[], datetime],
        *,
        tick: timedelta = _TICK,
        lease: timedelta = LEASE,
        workers: Workers | None = None,
    ) -> None:
        """`tick` is how long a changed file, a jump of the clock or a request to stop may go unnoticed.

        `lease` is how long another service waits for this one when it is stopped. `workers` look at what sources send;
        they are closed at the end.
        """
        self._open_store = open_store
        self._clock = clock
        self._tick = tick
        self._watched = WatchedFile(file)
        self._lease = Lease(clock, lease)
        self._schedule = Schedule()
        self._beside = Beside()
        self._rounds: set[asyncio.Task[None]] = set()
        self._stop = asyncio.Event()
        self._taken = True  # whether the store has taken something since it was last in trouble
        self.figures = HealthFigures()
        self.workers = workers or Workers()
        self.workers.start()

    @property
    def refused(self) -> bool:
        """Whether the estate file was invalid at the start, so that the last accepted one was used."""
        return self._watched.refusal is not None

    @property
    def troubled(self) -> bool:
        """Whether something went wrong in a round, once it has run."""
        return self._desk.troubled

    @property
    def unsent(self) -> bool:
        """Whether a notice could not be sent, once it has run."""
        return self._desk.unsent

    def stop(self) -> None:
        """End soon: rounds are interrupted cleanly."""
        self._stop.set()

    # ---- from the start to the end -----------------------------------------------------------------------------------

    async def run(self, *, once: bool = False, wait: bool = False) -> None:
        """Keep the timetables until stopped; with `once` do what is due now and end.

        With `wait` it stands by for as long as another service keeps them, and takes over when that one is gone.
        Raises EstateError when the estate file is wrong at the start, StoreError when its store is not there, and
        OutsideError when another service keeps the timetables of this store.
        """
        estate = self._watched.read_first(self._open_store)
        self._sit_down(estate, self._opened(estate))
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

    def _opened(self, estate: Estate) -> Store:
        """The store; that it cannot be opened is reported past it."""
        try:
            store = self._open_store(estate)
        except StoreError as exc:
            for sent in report_failed_start(estate, exc, self._clock()):
                log_unsent(sent)
            raise
        forget_failed_start(estate)
        return store

    def _sit_down(self, estate: Estate, store: Store) -> None:
        """Lay out what the duties share, and the duties."""
        self._store = store
        self._pen = store.another()  # for what is written in a thread
        self._rounds_pen = Pen(store.another())
        notifier = Notifier(estate, store, self._clock)
        monitor = Monitor(notifier, store, self.figures)
        desk = Desk(estate, store, self._clock, self._open_store, notifier, monitor, self.figures, self._beside)
        self._desk = desk
        self._inherited = Inherited(desk, self._schedule)
        self._sending = Sending(desk)
        self._upkeep = Upkeep(desk)

    def _check_writer(self) -> None:
        """StoreError where the store is another estate's; that is reported, too."""
        try:
            check_writer(self._store, self._watched.file)
        except StoreError as exc:
            self._desk.watch("store", about_writer(exc.message, self._clock()))
            for sent in self._desk.notifier.delivery.deliver():
                self._desk.note_sent(sent)
            raise
        self._desk.watch("store", about_writer("", self._clock()))

    async def _serve(self, *, once: bool, wait: bool) -> None:
        """From the beginning to the end of keeping the timetables. LeaseLostError when another has taken them over."""
        if wait:
            await self._lease.stand_by(self._store, self._stop, self._look_at_file)
        else:
            self._lease.take(self._store)
        if self._stop.is_set():
            return
        self._inherited.end_rounds(self._lease.holder, _TRIGGER)
        self._watched.accept_first(self._desk)
        if not once:
            self._report_start()
        await self._heed_copies(ask=True)
        self._begin()
        if not once:
            self._report_missed()
        self._inherited.settle()
        await self._keep(once=once)
        if not once:
            words = f"{process_in_words(self._lease.holder)}; it ended properly"
            self._desk.notifier.tell(Event("service-stopped", self._clock(), words))
            self._store.remember(ESTATE, _RUNNING, "")

    async def _stand_down(self, why: LeaseLostError) -> None:
        """Let go of all that was begun: another does it now."""
        LOG.warning("%s; this one stands by", why.message)
        self._lease.held = False
        await self._end_rounds()
        self._rounds.clear()
        self._schedule.clear()

    async def _end_rounds(self) -> None:
        for task in self._rounds:
            task.cancel()
        if self._rounds:
            await asyncio.wait(self._rounds, timeout=_STOP.total_seconds())

    async def _end(self) -> None:
        await self._end_rounds()
        if tasks := self._beside.tasks():
            await asyncio.wait(tasks, timeout=_STOP_BESIDE.total_seconds())
        if self._lease.held:  # otherwise all that is to be reported is another one's
            try:
                await self._sending.finish(_STOP)
                self._schedule.not_written()
                if self._schedule.unwritten:
                    self._store.remember_all(TIMETABLE, self._schedule.unwritten)
                self._store.release(self._lease.holder)
            except StoreError as exc:
                LOG.error("the store is in trouble: %s", exc)
        self._store.close()
        self.workers.close()
        LOG.info("the service has ended")

    def _report_start(self) -> None:
        """Report that the service begins; and if the one before did not end as it should, that too."""
        clear_scratch()
        now, notifier = self._clock(), self._desk.notifier
        before = self._store.recall(ESTATE, _RUNNING)
        if before:
            cut = [one.number for one in self._store.rounds() if one.ended is None and one.trigger == _TRIGGER]
            rounds = f"; interrupted: round {', '.join(map(str, cut))}" if cut else ""
            words = f"{before} did not end properly{rounds}"
            notifier.tell(Event("service-died", now, words, advice="look at its log of that time"))
        holder = process_in_words(self._lease.holder)
        self._store.remember(ESTATE, _RUNNING, f"{holder}, since {utc_text(now)}")
        notifier.tell_untold()
        notifier.tell(Event("service-started", now, holder))

    def _report_missed(self) -> None:
        """Report from when to when nothing was collected though something was due."""
        now = self._clock()
        if missed := self._schedule.missed(now):
            number, last = missed
            words = (
                f"{many_sources(number)} became due between {utc_text(last)} and {utc_text(now)}, and no service ran"
            )
            self._desk.notifier.tell(Event("collecting-missed", now, f"{words}; they are collected now"))

    # ---- again and again ---------------------------------------------------------------------------------------------

    def _begin(self) -> None:
        """Take up what is on record."""
        estate = self._desk.estate
        self._desk.notifier.delivery.heed_clock()
        self._places = Slots(estate)
        begun = self.figures.begun_late
        self.figures.begun_late = {name: late for name, late in begun.items() if name in estate.sources}
        self.figures.last_round = next((one.ended for one in self._store.rounds() if one.ended), None)
        number = self._schedule.begin(estate, self._store.recall_all(TIMETABLE), self._clock())
        soonest = self._schedule.soonest
        when = f", the next at {utc_text(soonest)}" if soonest else ""
        LOG.info("%s on schedule%s", many_sources(number), when)

    async def _keep(self, *, once: bool) -> None:
        now = self._clock()
        while not self._stop.is_set():
            try:
                now = self._look(now, once=once)
                wait = self._schedule.wait(now, self._tick)
                if self._taken:
                    self.figures.trouble = ""
            except StoreError as exc:
                self._taken = False
                LOG.error("the store is in trouble: %s; the next try is in %ss", exc, _TROUBLE.seconds)
                self._report_trouble(exc)
                wait = _TROUBLE
            self.figures.late, self.figures.workers_lost = lateness(), self.workers.lost
            self.figures.awaited = dict(self._schedule.due)
            self.figures.seen, self.figures.next_due = self._clock(), self._schedule.soonest
            if once and not (self._rounds or self._upkeep.wanted or self._beside.tasks(but=_WRITE)):
                return
            await self._pause(max(wait, timedelta(milliseconds=50)))

    def _look(self, before: datetime, *, once: bool) -> datetime:
        """Look at each duty, and begin what it is time for; returns the time. Raises StoreError."""
        self._lease.renew_if_over(self._store)
        self._look_at_file()
        self._take_up_written()
        now = self._heed_clock(before)
        self._write(renew=self._lease.is_to_renew(now))
        self._inherited.look(now)
        self._start_due(now, once=once)
        self._desk.monitor.look(self._desk.estate, self._schedule.kept, now)
        self._upkeep.look(now, busy=bool(self._rounds))
        self._sending.look(now)
        return now

    def _look_at_file(self) -> None:
        if self._watched.look(self._desk):
            self._begin()

    def _heed_clock(self, before: datetime) -> datetime:
        """The time; when it has gone back, what was dealt with in a time to come counts as dealt with now."""
        now = self._clock()
        if before - now > _JUMP:
            LOG.warning("the clock was set back by %s", describe(before - now))
            self._begin()
            self._desk.monitor.soon()
        return now

    def _report_trouble(self, exc: StoreError) -> None:
        """Report once that the store is in trouble, past the store if need be."""
        if not self.figures.trouble:
            self._desk.notifier.tell(Event("store-trouble", self._clock(), exc.message, advice=exc.hint))
        self.figures.trouble = str(exc)
        with suppress(StoreError):
            self._sending.look(self._clock())

    async def _pause(self, span: timedelta) -> None:
        """Wait this long, or until a round or a copy is done or somebody wants us to stop."""
        due = asyncio.get_running_loop().time() + span.total_seconds()
        stopped = asyncio.create_task(self._stop.wait())
        await asyncio.wait(
            {stopped, *self._rounds, *self._beside.tasks()},
            timeout=span.total_seconds(),
            return_when=asyncio.FIRST_COMPLETED,
        )
        stopped.cancel()
        note_lateness(asyncio.get_running_loop().time() - due)
        for task in [task for task in self._rounds if task.done()]:
            self._rounds.discard(task)
            task.result()
        self._beside.take_up(*_AWAITED)

    # What is new on schedule, and that this service runs, is written in a thread, as another may be writing.

    def _write(self, *, renew: bool) -> None:
        if not self._beside.has(_WRITE) and (self._schedule.unwritten or renew):
            self._beside.begin(_WRITE, self._written(self._schedule.being_written(), renew=renew))

    async def _written(self, new: Mapping[str, str], *, renew: bool) -> None:
        if new:
            await asyncio.to_thread(self._pen.remember_all, TIMETABLE, new)
            self._schedule.was_written()
        if renew:
            await asyncio.to_thread(self._lease.take, self._pen)

    def _take_up_written(self) -> None:
        """Raises what went wrong with it; what is new is then still known, and written later."""
        try:
            self._taken |= self._beside.take_up(_WRITE)
        finally:
            if not self._beside.has(_WRITE):
                self._schedule.not_written()

    # ---- rounds ------------------------------------------------------------------------------------------------------

    def _start_due(self, now: datetime, *, once: bool) -> None:
        """Begin a round with what is due, and with what its timetables have spread over the time to come."""
        delays = self._schedule.take_due(now, spread=not once)
        if delays:
            LOG.info("a round of %s begins", many_sources(len(delays)))
            self._rounds.add(asyncio.create_task(self._round(delays)))

    async def _heed_copies(self, *, ask: bool) -> None:
        """A store that is older than its copies gives no number again; bounded, as a copy's disk or server may hang."""
        if not self._desk.estate.copies:
            return
        try:
            newer = await heed_in_time(self._desk.estate, self._store, ask=ask)
        except (OSError, StoreError) as exc:
            LOG.warning("the copies could not be examined: %s", exc)
            return
        for name in newer:
            LOG.error("the store is older than copy %s", name)
            self._desk.monitor.copy_refused(self._desk.estate, name, self._clock())

    async def _round(self, delays: Mapping[str, timedelta]) -> None:
        estate = self._desk.estate
        sources = [estate.sources[name] for name in delays]
        await self._heed_copies(ask=False)
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
            LOG.error("the round could not begin: %s%s", exc.message, f" ({exc.hint})" if exc.hint else "")
            self.figures.blocked = exc.message
            self._desk.watch("rounds", about_rounds(exc.message, exc.hint, self._clock()))
            self._put_off(sources)
            return
        self.figures.blocked = ""
        self._desk.watch("rounds", about_rounds("", "", self._clock()))
        self._settle_due(report, sources)
        await self._report_on(report, estate)

    def _put_off(self, sources: list[Source], by: timedelta = _TROUBLE * 2) -> None:
        """Sources that were not come to: due again soon, but not at once."""
        self._schedule.put_off([source.name for source in sources], self._clock() + by)

    def _settle_due(self, report: RoundReport, sources: list[Source]) -> None:
        """What a round did not come to, or could not write down, is due again later."""
        busy = self._schedule.busy
        for result in () if report.interrupted else report.results:
            if result.waiting and result.source in busy:  # what waited there could not be taken
                self._schedule.deal_with(result.source, self._clock())
        lost = {result.source for result in report.results if result.round is None}
        self._put_off([source for source in sources if source.name in busy - lost])
        self._put_off([source for source in sources if source.name in busy & lost], _NOT_TAKEN)

    async def _report_on(self, report: RoundReport, estate: Estate) -> None:
        """The log, the figures, and those who are to hear of the round."""
        level = logging.WARNING if report.in_trouble else logging.INFO
        LOG.log(level, "round %s ended: %s", report.number, _tally(report))
        self.figures.rounds, self.figures.last_round = self.figures.rounds + 1, report.ended
        self.figures.outcomes = self.figures.outcomes + Counter(result.outcome for result in report.results)
        self._desk.troubled = self._desk.troubled or report.in_trouble
        with suppress(StoreError):
            self._desk.notifier.tell_untold()
        known = bool(self.figures.trouble)
        if report.store_trouble:
            self.figures.trouble, self._taken = report.store_trouble, False
        self._desk.notifier.end_round(replace(report, store_trouble="") if known else report)
        self._desk.monitor.soon()
        self._upkeep.after_round(estate)
        with suppress(StillBusyError, StoreError):  # that one was reported, or will be when it comes back
            well = is_well(estate, self._store, self._clock())
            sent = await apart("heartbeat", partial(sign_of_life, estate, report, well=well))
            self._desk.note_sent(sent)
            if sent is not None:
                note(self._store, HEARTBEAT, sent.trouble or "", self._clock())

    def _observe(self, event: SourceBegan | SourceStep | SourceResult) -> None:
        """What is dealt with is remembered; what an interrupted round did not come to is still due."""
        if isinstance(event, SourceBegan):
            late = self._schedule.begun(event.source, self._clock())
            if late is not None:
                self.figures.begun_late[event.source] = late
        if isinstance(event, SourceStep):
            LOG.debug("%s: %s took %s", event.source, event.place, describe(event.taken.took))
        if isinstance(event, SourceResult):
            self._take_result(event)

    def _take_result(self, result: SourceResult) -> None:
        self._desk.notifier.hear(result)
        if result.source not in self._schedule.busy:
            return
        if result.outcome is Outcome.SKIPPED and self._stop.is_set():
            return
        if not result.waiting and result.round is not None:
            self._schedule.deal_with(result.source, self._clock())
        why = result.failure or (result.note if result.outcome is Outcome.SUSPECT else None)
        word = result.outcome if why is None else f"{result.outcome}: {why}"
        LOG.log(log_level(state_of(result)), "%s: %s", result.source, word)
        for one in result.unmet:
            LOG.warning("%s: a requirement is not met: %s", result.source, one)


def _tally(report: RoundReport) -> str:
    parts = [f"{number} {outcome}" for outcome, number in report.tally.items()]
    return ", ".join(parts) or "nothing"
