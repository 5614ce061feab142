"""Bringing a version back to its source: its steps, taken once."""

from collections.abc import Mapping
from contextlib import closing

from historon.base.workers import Workers
from historon.collect.access import Access, Clock
from historon.collect.events import Failure
from historon.collect.failures import CollectError, FailureKind, NotNowError
from historon.collect.taking import StepObserver, Wanted
from historon.estate import Estate, Source
from historon.store import Store

__all__ = ["push_parts"]


async def push_parts(
    estate: Estate, source: Source, store: Store, wanted: Mapping[str, Wanted], *, clock: Clock, told: StepObserver
) -> tuple[Failure | None, list[tuple[str, str]]]:
    """Take the steps of the source's `push`, then over a fresh connection those that confirm it.

    Returns what went wrong, and the lines that were typed to which anything was answered, with the answers, masked.
    What the source holds then only its next export tells.
    """
    answers: list[tuple[str, bytes]] = []
    with closing(Workers()) as workers:
        reach = Access(estate, store, clock, workers)
        await reach.fetch_accounts([source])
        masks = reach.masks(source, store.fingerprint_key())
        failure = None
        try:
            await reach.push(source, masks, wanted, told, answers)
        except CollectError as exc:
            failure = Failure.of(exc, masks)
        except NotNowError as exc:
            failure = Failure.of(CollectError(FailureKind.STEP, str(exc)), masks)
        said = [(masks.seen(line), masks.hide(answer).decode("utf-8", "replace")) for line, answer in answers]
    return failure, said
