"""Pruning without a person: after a good round, never by a doubtful clock, never more at once than a limit allows."""

from collections.abc import Mapping
from dataclasses import dataclass, field
from datetime import datetime

from historon.estate import Estate
from historon.retention.clock import clock_doubt
from historon.retention.planning import plans_of
from historon.retention.pruning import Pruned, prune
from historon.store import Outcome, Store

__all__ = ["PrunedByItself", "prune_by_itself"]

_LOOKED_AT = 20  # rounds, of which some may run still
_BAD = (Outcome.FAILED, Outcome.SUSPECT)


@dataclass(frozen=True)
class PrunedByItself:
    """What came of it: what was removed, or why a person has to look first; neither when it was not the time."""

    pruned: Pruned | None = None
    by_source: Mapping[str, int] = field(default_factory=dict)
    blocked: str = ""


def prune_by_itself(estate: Estate, store: Store, now: datetime) -> PrunedByItself:
    """Remove what retention lets go, if the last round that ended was good and there is not too much of it.

    Raises StoreError.
    """
    last = next((one for one in store.rounds(_LOOKED_AT) if one.ended is not None), None)
    if last is None or any(last.outcomes.get(one) for one in _BAD):
        return PrunedByItself()
    plans = plans_of(estate, estate.sources.values(), store, now)
    going = {name: sum(not one.stays for one in verdicts) for name, verdicts in plans.items()}
    going = {name: number for name, number in going.items() if number}
    number = sum(going.values())
    if not number:
        return PrunedByItself()
    doubt = clock_doubt(store, now)
    if doubt:
        return PrunedByItself(blocked=f"{doubt}, and by it {number:,} versions would go")
    all_of_them = sum(map(len, plans.values()))
    limit = max(len(plans), int(estate.settings.prune_limit * all_of_them))
    if number > limit:
        told = f"{number:,} of {all_of_them:,} versions would go at once, more than the {limit:,} that may"
        return PrunedByItself(blocked=told)
    verdicts = [one for each in plans.values() for one in each]
    return PrunedByItself(prune(store, verdicts, now, last.number), going)
