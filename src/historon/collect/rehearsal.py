"""Going through a procedure for real while storing nothing."""

from collections.abc import Sequence
from contextlib import closing
from dataclasses import dataclass

from historon.base.workers import Workers
from historon.collect.access import Access, Clock
from historon.collect.events import Failure
from historon.collect.failures import CollectError, NotNowError
from historon.collect.judging import Judged, judge, question_about
from historon.collect.taking import StepObserver
from historon.estate import Estate, Source
from historon.insight import Reader, Weights
from historon.store import Store
from historon.versions import Masks

__all__ = ["Rehearsal", "rehearse"]


@dataclass(frozen=True)
class Rehearsal:
    """How it went: what a round would have recorded, or why it would have failed. `masks` are for showing any of it."""

    source: str
    masks: Masks
    judged: Judged | None = None
    remarks: Sequence[str] = ()
    failure: Failure | None = None
    not_now: str | None = None


async def rehearse(estate: Estate, source: Source, store: Store, *, clock: Clock, told: StepObserver) -> Rehearsal:
    """Take the source's steps, compare the export with its last good version, and store nothing.

    `told` hears of each step as it ends. Raises StoreError when the last good version cannot be read.
    """
    with closing(Workers()) as workers:
        return await _rehearsed(Access(estate, store, clock, workers), estate, source, store, told, workers)


async def _rehearsed(
    reach: Access, estate: Estate, source: Source, store: Store, told: StepObserver, workers: Workers
) -> Rehearsal:
    await reach.fetch_accounts([source])
    masks = reach.masks(source, store.fingerprint_key())
    try:
        export = await reach.export(source, masks, told)
    except CollectError as exc:
        return Rehearsal(source.name, masks, failure=Failure.of(exc, masks))
    except NotNowError as exc:
        return Rehearsal(source.name, masks, not_now=masks.told(str(exc)))
    reader = Reader(source.own_names, (), Weights(estate.weights))
    procedure = estate.procedure_of(source)
    question = question_about(store, source, procedure, export.kept, masks, reader, doubts=export.doubts)
    judged = await judge(workers, source.name, question)
    clock = [export.wrong_clock] if export.wrong_clock else []
    return Rehearsal(source.name, masks, judged, [*export.remarks, *clock, *judged.remarks])
