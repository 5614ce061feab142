"""A round by hand: collected, reported, and once more for the host keys that somebody trusts."""

import asyncio
import signal
from collections.abc import Callable, Mapping, Sequence
from contextlib import closing, suppress

from historon.api.context import Opened
from historon.api.results import Collected
from historon.api.running import interruptible
from historon.base.disk import clear_scratch
from historon.base.errors import StoreError, UsageError
from historon.base.workers import Workers
from historon.collect import Observer, OfferedKey, RoundReport, SourceBegan, SourceResult, SourceStep, run_round
from historon.estate import Source
from historon.notices import DeliveryResult, Notifier, about_copy, sign_of_life
from historon.store import HEARTBEAT, note
from historon.timetable import is_well
from historon.timetable.acceptance import estate_in_force

__all__ = ["collect"]


async def collect(
    opened: Opened,
    sources: Sequence[Source],
    observer: Observer | None,
    trust: Callable[[Mapping[str, OfferedKey]], bool] | None,
    stopped_by: Sequence[signal.Signals],
    *,
    every: bool,
) -> Collected:
    """One round of these sources, or of `every` one; see Estate.collect."""
    with closing(Workers()) as workers:
        workers.start()  # while there is one thread
        clear_scratch()
        estate = opened.described
        store = opened.to_write()
        notifier = Notifier(estate, store, opened.clock)
        if every:  # by a timetable's command, and not some by hand
            estate = estate_in_force(estate, store, notifier, opened.clock())
            if estate is not opened.described:
                opened.described = notifier.estate = estate
                sources = list(estate.sources.values())
        if not sources:
            raise UsageError("there is no source to collect", hint="add one to the estate file")
        round_of = _Round(opened, notifier, observer or (lambda event: None), stopped_by, workers)
        with suppress(StoreError):
            notifier.tell_untold()  # before its own news: whoever collects by hand or by cron has no service that does
        report = await round_of(sources)
        trusted = _trusted(opened, report, trust)
        for result in report.results:
            if _offered(result) and result.source not in trusted:
                notifier.hear(result)
        if trusted:
            report = report.followed_by(await round_of([estate.sources[name] for name in trusted]))
        notifier.end_round(report)
        results = await notifier.delivery.deliver_beside()
    return Collected(report, [*results, *await _sign_of_life(opened, report)])


async def _heed_copies(opened: Opened, notifier: Notifier) -> None:
    """A store that is older than its copies gives no number again, and that is reported."""
    from historon.copies import copies_of, heed_in_time

    newer: list[str] = []
    with suppress(OSError):  # a copy that does not answer keeps no round waiting
        newer = await heed_in_time(opened.described, opened.store, ask=False)
    for one in copies_of(opened.described, opened.store, opened.clock()) if newer else ():
        if one.name not in newer:
            continue
        notifier.watch(f"copy {one.name}", [about_copy(one, opened.clock())])


async def _sign_of_life(opened: Opened, report: RoundReport) -> list[DeliveryResult]:
    """The result of the heartbeat, where all is well as far as is known."""
    if opened.described.settings.heartbeat is None:
        return []
    now = opened.clock()
    with suppress(StoreError):
        well = is_well(opened.described, opened.store, now)
        sent = await asyncio.to_thread(sign_of_life, opened.described, report, well=well)
        if sent is not None:
            note(opened.store, HEARTBEAT, sent.trouble or "", now)
            return [sent]
    return []


class _Round:
    """One pass over some sources, each reported as soon as it is done."""

    def __init__(
        self,
        opened: Opened,
        notifier: Notifier,
        observer: Observer,
        stopped_by: Sequence[signal.Signals],
        workers: Workers,
    ) -> None:
        self._opened = opened
        self._notifier = notifier
        self._observer = observer
        self._stopped_by = stopped_by
        self._workers = workers

    async def __call__(self, sources: Sequence[Source]) -> RoundReport:
        if self._opened.described.copies:
            await _heed_copies(self._opened, self._notifier)
        loop = asyncio.get_running_loop()
        passing = asyncio.create_task(
            run_round(
                self._opened.described,
                sources,
                self._opened.store,
                clock=self._opened.clock,
                observer=self._hear,
                trigger="hand",
                workers=self._workers,
            )
        )
        for one in self._stopped_by:
            loop.add_signal_handler(one, passing.cancel)
        try:
            return await passing
        finally:
            for one in self._stopped_by:
                loop.remove_signal_handler(one)

    def _hear(self, event: SourceBegan | SourceStep | SourceResult) -> None:
        self._observer(event)
        # Of a key that is shown for the first time is only reported when nobody trusts it.
        if isinstance(event, SourceResult) and not _offered(event):
            self._notifier.hear(event)


def _offered(result: SourceResult) -> bool:
    return result.failure is not None and result.failure.offered is not None


def _trusted(
    opened: Opened, report: RoundReport, trust: Callable[[Mapping[str, OfferedKey]], bool] | None
) -> list[str]:
    """The sources whose host keys, shown for the first time, are trusted; they are remembered."""
    offered = {r.source: r.failure.offered for r in report.results if r.failure and r.failure.offered}
    if not offered or trust is None:
        return []
    with interruptible():
        if not trust(offered):
            return []
    from historon.collect.transports.host_keys import remember_key

    for key in offered.values():
        remember_key(opened.described.path(opened.described.settings.known_hosts), key)
    return list(offered)
