"""Bringing a version back to its source: its steps, taken once."""

from collections.abc import Mapping
from contextlib import closing

from historon.collect.access import Access, Clock
from historon.collect.events import Failure
from historon.collect.failures import CollectError, FailureKind, NotNowError
from historon.collect.steps import StepObserver, Wanted
from historon.estate import Estate, Source
from historon.store import Store
from historon.workers import Workers

__all__ = ["push_parts"]


async def push_parts(
    estate: Estate, source: Source, store: Store, wanted: Mapping[str, Wanted], *, clock: Clock, told: StepObserver
) -> Failure | None:
    """Take the steps of the source's `push`, then over a fresh connection those that confirm it; what went wrong.

    What the source holds then only its next export tells.
    """
    with closing(Workers()) as workers:
        reach = Access(estate, store, clock, workers)
        await reach.fetch_accounts([source])
        masks = reach.masks(source, store.fingerprint_key())
        try:
            await reach.push(source, masks, wanted, told)
        except CollectError as exc:
            return Failure.of(exc, masks)
        except NotNowError as exc:
            return Failure.of(CollectError(FailureKind.STEP, str(exc)), masks)
    return None
