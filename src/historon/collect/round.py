"""One pass over some sources: many at once, none harming another, everything recorded."""

import asyncio
from collections import defaultdict
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from datetime import UTC, datetime, timedelta
from functools import partial
from typing import Any, TypeVar

from historon.base.errors import OutsideError, StoreError, where_raised
from historon.base.workers import Workers
from historon.collect.access import Access, Clock, Export
from historon.collect.events import Failure, Observer, RoundReport, SourceBegan, SourceResult, SourceStep
from historon.collect.failures import CollectError, FailureKind, NotNowError
from historon.collect.identities import Identities
from historon.collect.judging import Judged, Question, judge, question_about
from historon.collect.preconditions import check_preconditions
from historon.collect.slots import Slots, record_of
from historon.collect.taking import StepTaken
from historon.collect.transports.drop_folder import strangers
from historon.collect.twins import EXPORT, Twins
from historon.collect.unfinished import OWED, Resumed, owing, resume_paused, settle
from historon.estate import REQUIREMENTS, Estate, Requirement, Source, same_rules
from historon.insight import Reader, Unmet, Weights, news_of
from historon.store import DATED, NO_DATE, Entry, Outcome, State, StillPaused, Store, place_held, still_paused
from historon.versions import Masks

__all__ = ["Pen", "run_round", "unfinished_sources"]

T = TypeVar("T")

_BATCH = 256
_CLOCK, _TOLD = "wrong clock", "told"  # the topic under which is remembered that this was reported of the last version
_INTERRUPTED = "the round was interrupted"


async def run_round(
    estate: Estate,
    sources: Sequence[Source],
    store: Store,
    *,
    clock: Clock,
    observer: Observer,
    trigger: str,
    delays: Mapping[str, timedelta] | None = None,
    places: Slots | None = None,
    workers: Workers | None = None,
    mark: str | None = None,
    pen: "Pen | None" = None,
) -> RoundReport:
    """Collect these sources and record what came of it.

    `delays` says how much later than the round some of them begin. Rounds that share a `pen` write by it; those that
    share `places` share the limits on how many sources are visited at the same time; those that share `workers` let
    those look at what came back. Under the topic `mark` the store remembers, in one step with what came of a source,
    when it was dealt with (ISO 8601, UTC).

    Cancelling it ends the round cleanly: what is not done is recorded as skipped, and the report says so. A store that
    takes nothing more does not end the round either: `store_trouble` says what is wrong. Raises OutsideError when the
    round must not begin (see check_preconditions), StoreError when it cannot.
    """
    check_preconditions(estate)
    own = workers or Workers()
    try:
        made = _Round(estate, store, clock, observer, delays or {}, places or Slots(estate), own, mark, pen)
        return await made.run(sources, trigger)
    finally:
        if workers is None:
            own.close()


def unfinished_sources(store: Store, sources: Sequence[Source]) -> list[Source]:
    """Those of the sources that the last round did not come to: it was interrupted, or cut short.

    None while it still runs.
    """
    last = next(iter(store.rounds(1)), None)
    if last is None or store.at_work(last):
        return []
    visits = store.visits(last.number)
    if last.ended is None:
        done = {visit.source for visit in visits}
        return [source for source in sources if source.name not in done]
    left = {visit.source for visit in visits if visit.note == _INTERRUPTED}
    return [source for source in sources if source.name in left]


@dataclass
class Pen:
    """A connection to the store that rounds write by, one after another: a round that waits takes none for itself."""

    store: Store
    _lock: "asyncio.Lock" = field(default_factory=asyncio.Lock)

    async def write(self, work: Callable[..., T], *given: Any) -> T:
        """Do it in a thread, as another process may be writing."""
        async with self._lock:
            return await asyncio.to_thread(work, *given)


@dataclass(frozen=True)
class _BesideOthers:
    """What other sources tell of an export; `noted` takes it down, and says what to remember, if the export is good."""

    doubts: Sequence[str] = ()
    remarks: Sequence[str] = ()
    noted: Callable[[], list[tuple[str, str]]] = list


@dataclass(frozen=True)
class _Found:
    """What is to be recorded of a source; `recorded` is set once it is on disk, or cannot be."""

    entry: Entry
    result: SourceResult
    recorded: "asyncio.Event" = field(default_factory=asyncio.Event)

    def took(self, span: timedelta, steps: Sequence[tuple[str, timedelta]], waiting: int) -> "_Found":
        """The same with how long it took, each step of it, and how many more wait there."""
        entry = replace(self.entry, took=span, steps=steps)
        return replace(self, entry=entry, result=replace(self.result, took=span, waiting=waiting))


class _Round:
    def __init__(
        self,
        estate: Estate,
        store: Store,
        clock: Clock,
        observer: Observer,
        delays: Mapping[str, timedelta],
        places: Slots,
        workers: Workers,
        mark: str | None,
        pen: "Pen | None",
    ) -> None:
        self._shared = pen
        self._estate = estate
        self._delays = delays
        self._store = store
        self._clock = clock
        self._observer = observer
        self._key = store.fingerprint_key()
        self._weights = Weights(estate.weights)
        self._twins = Twins(store)
        self._identities = Identities(store, estate.sources)
        self._alike = defaultdict[str, list[str]](list)  # names, by what they are collected with
        for source in estate.sources.values():
            self._alike[source.procedure].append(source.name)
        self._number = 0
        self._places = places
        self._workers = workers
        self._mark = mark
        self._remarks: list[str] = []
        self._resumed: list[Resumed] = []
        self._queue: asyncio.Queue[_Found | None] = asyncio.Queue()  # None: nothing more will come
        self._reach = Access(estate, store, clock, workers)
        self._results: dict[str, SourceResult] = {}
        self._store_trouble: str | None = None

    async def run(self, sources: Sequence[Source], trigger: str) -> RoundReport:
        """The whole round, from its beginning in the ledger to its end there."""
        if self._shared is not None:
            self._pen = self._shared
            return await self._written_by_pen(sources, trigger)
        self._pen = Pen(await asyncio.to_thread(self._store.another))
        try:
            return await self._written_by_pen(sources, trigger)
        finally:
            if self._pen.store is not self._store:
                self._pen.store.close()

    async def _written_by_pen(self, sources: Sequence[Source], trigger: str) -> RoundReport:
        time = asyncio.get_running_loop().time
        began, started = self._clock(), time()
        self._number = await self._pen.write(self._pen.store.begin_round, began, trigger)
        writer = asyncio.create_task(self._write())
        for source in sources:
            if self._estate.is_skipped(source, began):
                self._queue.put_nowait(_skipped(source.name, began, source.skip or ""))
        left = {one.source: one for one in self._still_paused()}
        visited = [source for source in sources if not self._estate.is_skipped(source, began)]
        self._places.expect(visited, self._store)
        tasks = [asyncio.create_task(self._collect(source, left.pop(source.name, None))) for source in visited]
        tasks += [asyncio.create_task(self._resume(one)) for one in left.values()]
        tasks += [asyncio.create_task(self._settle(source)) for source in self._still_owed(visited)]
        interrupted = await _all_done(tasks)
        self._queue.put_nowait(None)
        await writer
        await self._skip_rest(sources)
        self._remarks += [f"{file} belongs to no source" for file in strangers(self._estate)]
        ended = began + timedelta(seconds=time() - started)
        try:
            await self._pen.write(self._pen.store.end_round, self._number, ended)
        except StoreError as exc:
            self._store_trouble = self._store_trouble or str(exc)
        results = [self._results[source.name] for source in sources]
        name = self._estate.settings.name
        return RoundReport(
            name,
            self._number,
            began,
            ended,
            results,
            interrupted,
            self._store_trouble,
            self._remarks,
            resumed=self._resumed,
        )

    def _still_paused(self) -> list[StillPaused]:
        try:
            return still_paused(self._store, self._clock())
        except StoreError as exc:
            self._store_trouble = str(exc)
            return []

    def _still_owed(self, visited: Sequence[Source]) -> list[Source]:
        """Sources besides those visited for whose exports something is owed."""
        try:
            return owing(self._estate, self._store, but={source.name for source in visited})
        except StoreError as exc:
            self._store_trouble = str(exc)
            return []

    async def _resume(self, left: StillPaused) -> None:
        """Resume what another one left paused; what becomes of it is a remark of the round."""
        try:
            resumed = await resume_paused(self._estate, self._store, self._clock, [left])
            self._resumed += resumed
            self._remarks += map(str, resumed)
        except StoreError as exc:
            self._store_trouble = self._store_trouble or str(exc)

    async def _collect(self, source: Source, left: StillPaused | None) -> None:
        """One source, whatever happens: from its turn to what is to be recorded of it."""
        time = asyncio.get_running_loop().time
        if left is not None:
            await self._resume(left)
        await asyncio.sleep(self._delays.get(source.name, timedelta()).total_seconds())
        await self._reach.fetch_accounts([source])
        async with self._places.for_source(source, record_of(self._store, source.name)):
            if place_held(self._store, source.name, self._clock()):
                self._queue.put_nowait(_skipped(source.name, self._clock(), "a version is being pushed to it"))
                return
            self._tell(SourceBegan(source.name))
            await self._settle(source)
            waiting = await self._collect_one(source, time)
            # What came in meanwhile waits for the next round: this one ends.
            for _ in range(waiting):
                if not await self._collect_one(source, time, again=True):
                    break

    async def _collect_one(self, source: Source, time: Callable[[], float], *, again: bool = False) -> int:
        """One export of a source, until it is on disk and settled; returns how many more wait there."""
        at, began = self._clock(), time()
        masks = self._reach.masks(source, self._key)
        steps: list[tuple[str, timedelta]] = []
        waiting = 0

        def told(taken: StepTaken) -> None:
            step = SourceStep(source.name, taken, masks)
            steps.append((step.place, taken.took))
            self._tell(step)

        try:
            check_preconditions(self._estate)
            export = await self._reach.export(source, masks, told)
            waiting = export.waiting
            found = await self._judged(source, export, masks, at)
        except NotNowError as exc:
            if again:
                return 0
            found = _skipped(source.name, at, masks.told(str(exc)))
        except CollectError as exc:
            found = _failed(source, exc, masks, at)
        except (StoreError, OutsideError) as exc:
            found = _failed(source, CollectError(FailureKind.STORE, exc.message, hint=exc.hint), masks, at)
        except Exception as exc:  # whatever it is, it is this source's own
            defect = CollectError(FailureKind.DEFECT, f"a defect in Historon itself: {where_raised(exc)}")
            found = _failed(source, defect, masks, at)
        found = found.took(timedelta(seconds=time() - began), steps, waiting)
        self._queue.put_nowait(found)
        await found.recorded.wait()
        await self._settle(source)
        return waiting

    async def _settle(self, source: Source) -> None:
        try:
            wrong = await settle(self._reach, self._estate, self._store, source)
            if wrong:
                self._remarks.append(wrong)
        except StoreError as exc:
            self._store_trouble = self._store_trouble or str(exc)

    async def _judged(self, source: Source, export: Export, masks: Masks, at: datetime) -> _Found:
        """The verdict on an export. What goes wrong while it is looked at is said of this source alone."""
        procedure = self._estate.procedure_of(source)
        rules = self._estate.requirements_of(source)
        reader = Reader(source.own_names, (), self._weights)
        daily = any(one.step.follows for one in export.kept) and self._is_first_today(source, at)
        question = question_about(
            self._store, source, procedure, export.kept, masks, reader, rules, export.doubts, daily=daily
        )
        checked_before = self._store.recall(source.name, REQUIREMENTS)
        others = self._beside_others(source, export, question)
        question = replace(question, doubts=[*question.doubts, *others.doubts])
        if not any(question.sides) and same_rules(checked_before, rules):
            question = replace(question, rules=())  # nothing to check: neither the export nor the rules are others
        judged = await judge(self._workers, source.name, question)
        newly, met_again, held = _checked(checked_before, rules, judged)
        remarks = [*judged.doubts, *judged.remarks, *export.remarks, *others.remarks]
        if judged.state is not State.SUSPECT:
            held = [*held, *others.noted()]
        told = self._store.recall(source.name, _CLOCK) == _TOLD
        if export.wrong_clock and not (told and judged.outcome is Outcome.UNCHANGED):
            remarks.append(export.wrong_clock)
        if told != bool(export.wrong_clock):
            held = [*held, (_CLOCK, _TOLD if export.wrong_clock else "")]
        note = "; ".join(map(masks.told, remarks)) or None
        result = SourceResult(
            source.name,
            judged.outcome,
            timedelta(),
            None,
            judged.added,
            judged.removed,
            note,
            lines=judged.lines,
            families=judged.families,
            unmet=newly,
            met_again=met_again,
        )
        entry = Entry(
            source.name,
            judged.outcome,
            at,
            timedelta(),
            judged.parts,
            judged.state,
            judged.added,
            judged.removed,
            note,
            judged.families,
            judged.signature,
            remembered=self._remembered(source, export, judged, held),
            made=self._made(source, export, at),
        )
        return _Found(entry, result)

    def _beside_others(self, source: Source, export: Export, question: Question) -> _BesideOthers:
        """Whether an export, or its device, is another source's. An export that is as before proves itself."""
        doubts, seen = self._identities.check(source, export.shown, first=question.before is None)
        if not any(question.sides):
            return _BesideOthers(noted=partial(self._identities.note, source.name, seen))
        twin, exports = self._twins.look(source.name, self._alike[source.procedure], [k.part for k in export.kept])
        remarks = []
        if twin and question.before is None:
            remarks.append(f"it equals the export of {twin}, to the byte: is its address right?")
        elif twin:
            doubts.append(f"it equals the export of {twin}, to the byte")

        def noted() -> list[tuple[str, str]]:
            self._twins.note(source.name, exports)
            return [(EXPORT, exports), *self._identities.note(source.name, seen)]

        return _BesideOthers(doubts, remarks, noted)

    def _is_first_today(self, source: Source, at: datetime) -> bool:
        """Whether nothing was stored of a source yet on this day of the estate's time zone."""
        last = self._store.state(source.name).good_at
        return last is None or last.astimezone(self._estate.zone).date() != at.astimezone(self._estate.zone).date()

    def _remembered(
        self, source: Source, export: Export, judged: Judged, held: Sequence[tuple[str, str]]
    ) -> list[tuple[str, str]]:
        """What is written down with the version. A suspect export's original stays where it is: nothing is owed."""
        if judged.state is State.SUSPECT:
            return [*export.remembered, *held]
        owed = [(OWED, export.owed)] if export.owed else []
        return [*export.remembered, *held, *owed, *self._date_of(source, export)]

    def _date_of(self, source: Source, export: Export) -> list[tuple[str, str]]:
        """When an export was made, by its own account: the oldest of its parts is as old as it is."""
        known = [one for one in export.dates if one is not None]
        if len(known) < len(export.dates):
            return [(DATED, NO_DATE)]
        if known:
            return [(DATED, min(known).astimezone(UTC).isoformat())]
        return [(DATED, "")] if self._store.recall(source.name, DATED) else []

    def _made(self, source: Source, export: Export, at: datetime) -> datetime | None:
        """When the export came, but never before the version that it follows, nor in the future."""
        if export.made is None:
            return None
        last = self._store.state(source.name).confirmed_at
        earliest = last + timedelta(milliseconds=1) if last else export.made
        return min(max(export.made, earliest), at)

    async def _write(self) -> None:
        """Record results as they come in; those that come in together share a transaction and its wait for the disk."""
        while (first := await self._queue.get()) is not None:
            batch = [first]
            while not self._queue.empty() and len(batch) < _BATCH:
                more = self._queue.get_nowait()
                if more is None:
                    self._queue.put_nowait(None)
                    break
                batch.append(more)
            await self._record(batch)

    async def _record(self, batch: Sequence[_Found]) -> None:
        """Only what is on disk is reported to the observer as done. Waiting for the store keeps nobody else waiting."""
        try:
            entries = [self._marked(found) for found in batch]
            recorded = await self._pen.write(self._pen.store.record, self._number, entries)
            results = [
                replace(found.result, outcome=told.outcome, number=told.number, round=self._number)
                for found, told in zip(batch, recorded, strict=True)
            ]
        except Exception as exc:  # whatever it is, nobody may wait for ever for what will not be recorded
            trouble = exc if isinstance(exc, StoreError) else StoreError(f"nothing was recorded: {where_raised(exc)}")
            self._store_trouble = str(trouble)
            results = [_not_recorded(found.result, trouble) for found in batch]
        for result in results:
            self._results[result.source] = result
            self._tell(result)
        for found in batch:
            found.recorded.set()

    def _marked(self, found: _Found) -> Entry:
        """What is to be recorded, with when the source was dealt with: not while more waits there to be taken."""
        entry = found.entry
        if self._mark is None or found.result.waiting or entry.note == _INTERRUPTED:
            return entry
        return replace(entry, remembered=[*entry.remembered, (self._mark, self._clock().isoformat())])

    def _tell(self, event: SourceBegan | SourceStep | SourceResult) -> None:
        """Tell the observer; what goes wrong there harms nobody else."""
        try:
            self._observer(event)
        except Exception as exc:
            self._remarks.append(f"reporting on {event.source} failed: {where_raised(exc)}")

    async def _skip_rest(self, sources: Sequence[Source]) -> None:
        """Sources that an interrupted round did not come to, or was in the middle of."""
        missing = [source.name for source in sources if source.name not in self._results]
        if missing:
            await self._record([_skipped(name, self._clock(), _INTERRUPTED) for name in missing])


async def _all_done(tasks: "Sequence[asyncio.Task[None]]") -> bool:
    """Wait for all tasks; when cancelled, cancel them, let them clean up, and say so."""
    interrupted = False
    try:
        if tasks:
            await asyncio.wait(tasks)
    except asyncio.CancelledError:
        interrupted = True
        current = asyncio.current_task()
        if current:
            current.uncancel()
        for task in tasks:
            task.cancel()  # once: a second time would cut short their cleaning up
        await asyncio.wait(tasks)
    for task in tasks:
        if not task.cancelled():
            task.result()  # a defect of ours ends the round loudly
    return interrupted


def _checked(
    before: str | None, rules: Sequence[Requirement], judged: Judged
) -> tuple[Sequence[Unmet], Sequence[str], Sequence[tuple[str, str]]]:
    """Which requirements the source newly fails, which it meets again, and what is to be remembered of it."""
    if judged.unmet is None:
        return (), (), ()
    told, newly, met_again = news_of(before, rules, judged.unmet)
    return newly, met_again, [(REQUIREMENTS, told)] if told != before else []


def _skipped(name: str, at: datetime, why: str) -> _Found:
    return _Found(
        Entry(name, Outcome.SKIPPED, at, timedelta(), note=why),
        SourceResult(name, Outcome.SKIPPED, timedelta(), note=why),
    )


def _failed(source: Source, exc: CollectError, masks: Masks, at: datetime) -> _Found:
    failure = Failure.of(exc, masks)
    note = f"{failure} ({failure.hint})" if failure.hint else str(failure)
    return _Found(
        Entry(source.name, Outcome.FAILED, at, timedelta(), note=note),
        SourceResult(source.name, Outcome.FAILED, timedelta(), note=note, failure=failure),
    )


def _not_recorded(result: SourceResult, exc: StoreError) -> SourceResult:
    failure = Failure(FailureKind.STORE, exc.message, exc.hint)
    return SourceResult(result.source, Outcome.FAILED, result.took, note=str(exc), failure=failure)
