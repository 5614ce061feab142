"""A round by hand: collected, reported, and once more for the host keys that somebody trusts."""

import asyncio
import signal
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import closing, suppress
from typing import TYPE_CHECKING

from historon.api.results import Collected
from historon.collect import Observer, OfferedKey, RoundReport, SourceBegan, SourceResult, SourceStep, run_round
from historon.disk import clear_scratch
from historon.errors import StoreError, UsageError
from historon.estate import Source
from historon.notices import DeliveryResult, Notifier, about_copy, sign_of_life
from historon.store import HEARTBEAT, note
from historon.timetable import is_well
from historon.timetable.acceptance import estate_in_force
from historon.workers import Workers

if TYPE_CHECKING:
    from historon.api.front import Historon

__all__ = ["collect"]


def collect(
    opened: "Historon",
    sources: Sequence[Source],
    observer: Observer | None,
    trust: Callable[[Mapping[str, OfferedKey]], bool] | None,
    stopped_by: Sequence[signal.Signals],
    *,
    every: bool,
) -> Collected:
    """One round of these sources, or of `every` one; see Historon.collect."""
    clear_scratch()
    estate = opened.estate
    store = opened.to_write()
    notifier = Notifier(estate, store, opened.clock)
    if every:  # by a timetable's command, and not some by hand
        estate = estate_in_force(estate, store, notifier, opened.clock())
        if estate is not opened.estate:
            opened.estate = notifier.estate = estate
            sources = list(estate.sources.values())
    if not sources:
        raise UsageError("there is no source to collect", hint="add one to the estate file")
    run = _Round(opened, notifier, observer or (lambda event: None), stopped_by)
    with suppress(StoreError):
        notifier.tell_untold()  # before its own news: whoever collects by hand or by cron has no service that does
    report = run(sources)
    trusted = _trusted(opened, report, trust)
    for result in report.results:
        if _offered(result) and result.source not in trusted:
            notifier.hear(result)
    if trusted:
        report = report.followed_by(run([estate.sources[name] for name in trusted]))
    notifier.end_round(report)
    results = [*notifier.delivery.deliver()]
    return Collected(report, [*results, *_sign_of_life(opened, report)])


async def _heed_copies(opened: "Historon", notifier: Notifier) -> None:
    """A store that is older than its copies gives no number again, and that is reported."""
    from historon.copies import heed_in_time

    newer: list[str] = []
    with suppress(OSError):  # a copy that does not answer keeps no round waiting
        newer = await heed_in_time(opened.estate, opened.store, ask=False)
    for one in opened.copies(*newer) if newer else ():
        notifier.watch(f"copy {one.name}", [about_copy(one, opened.clock())])


def _sign_of_life(opened: "Historon", report: RoundReport) -> Iterator[DeliveryResult]:
    """Where all is well, as far as is known."""
    if opened.estate.settings.heartbeat is None:
        return
    now = opened.clock()
    with suppress(StoreError):
        told = sign_of_life(opened.estate, report, well=is_well(opened.estate, opened.store, now))
        if told is not None:
            yield told
            note(opened.store, HEARTBEAT, told.trouble or "", now)


class _Round:
    """One pass over some sources, each reported as soon as it is done."""

    def __init__(
        self, opened: "Historon", notifier: Notifier, observer: Observer, stopped_by: Sequence[signal.Signals]
    ) -> None:
        self._opened = opened
        self._notifier = notifier
        self._observer = observer
        self._stopped_by = stopped_by

    def __call__(self, sources: Sequence[Source]) -> RoundReport:
        workers = Workers()
        workers.start()  # while there is one thread
        with closing(workers):
            return asyncio.run(self._run(sources, workers))

    async def _run(self, sources: Sequence[Source], workers: Workers) -> RoundReport:
        task = asyncio.current_task()
        assert task is not None  # noqa: S101 (asyncio.run made it)
        if self._opened.estate.copies:
            await _heed_copies(self._opened, self._notifier)
        for one in self._stopped_by:
            asyncio.get_running_loop().add_signal_handler(one, task.cancel)
        return await run_round(
            self._opened.estate,
            sources,
            self._opened.store,
            clock=self._opened.clock,
            observer=self._hear,
            trigger="hand",
            workers=workers,
        )

    def _hear(self, event: SourceBegan | SourceStep | SourceResult) -> None:
        self._observer(event)
        # Of a key that is shown for the first time is only reported when nobody trusts it.
        if isinstance(event, SourceResult) and not _offered(event):
            self._notifier.hear(event)


def _offered(result: SourceResult) -> bool:
    return result.failure is not None and result.failure.offered is not None


def _trusted(
    opened: "Historon", report: RoundReport, trust: Callable[[Mapping[str, OfferedKey]], bool] | None
) -> list[str]:
    """The sources whose host keys, shown for the first time, are trusted; they are remembered."""
    offered = {r.source: r.failure.offered for r in report.results if r.failure and r.failure.offered}
    if not offered or trust is None or not trust(offered):
        return []
    from historon.collect.transports.host_keys import remember_key

    for key in offered.values():
        remember_key(opened.estate.path(opened.estate.settings.known_hosts), key)
    return list(offered)
