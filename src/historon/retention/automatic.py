"""Pruning without a person: of sources that are well, by a clock that is right, and within a limit."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from datetime import datetime

from historon.estate import Estate
from historon.retention.doubts import clock_doubt, note_retention, shortened, too_many, too_many_of
from historon.retention.planning import plans_of
from historon.retention.pruning import Pruned, prune
from historon.retention.verdicts import Verdict
from historon.store import Outcome, Store

__all__ = ["PrunedByItself", "prune_by_itself"]

_LOOKED_AT = 20  # rounds, of which some may run still
_NAMED = 3
_BAD = (Outcome.FAILED, Outcome.SUSPECT)


@dataclass(frozen=True)
class PrunedByItself:
    """What came of it: what was removed, and why a person has to look at the rest first."""

    pruned: Pruned | None = None
    by_source: Mapping[str, int] = field(default_factory=dict)
    blocked: str = ""


def prune_by_itself(estate: Estate, store: Store, now: datetime) -> PrunedByItself:
    """Remove what retention lets go, of sources that are well, if there is not too much of it. Raises StoreError."""
    last = next((one for one in store.rounds(_LOOKED_AT) if one.ended is not None), None)
    if last is None:
        return PrunedByItself()
    states = store.states()
    well = [one for one in estate.sources.values() if one.name in states and states[one.name].outcome not in _BAD]
    plans = plans_of(estate, well, store, now)
    number = sum(map(_going, plans.values()))
    if not number:
        note_retention(estate, store, plans.keys() - shortened(estate, store, plans).keys())
        return PrunedByItself()
    doubt = clock_doubt(store, now)
    if doubt:
        return PrunedByItself(blocked=f"{doubt}; it would make {number:,} versions old enough to remove")
    limit = estate.settings.prune_limit
    going = [name for name, plan in plans.items() if _going(plan)]
    held = {**too_many_of(plans, limit), **shortened(estate, store, going)}
    rest = {name: plan for name, plan in plans.items() if name not in held}
    trouble = too_many(rest, limit)
    blocked = trouble or "; ".join(list(dict.fromkeys(held.values()))[:_NAMED])
    if trouble or not any(map(_going, rest.values())):
        return PrunedByItself(blocked=blocked)
    done = prune(store, [one for plan in rest.values() for one in plan], now, last.number)
    note_retention(estate, store, [name for name in plans if name not in held])
    return PrunedByItself(done, {name: _going(plan) for name, plan in rest.items() if _going(plan)}, blocked)


def _going(plan: Sequence[Verdict]) -> int:
    return sum(not one.stays for one in plan)
