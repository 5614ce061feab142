"""Removing what a plan says may go."""

from collections.abc import Sequence
from dataclasses import dataclass

from historon.retention.planning import Verdict
from historon.store import Store

__all__ = ["Pruned", "prune"]

_AT_ONCE = 2000


@dataclass(frozen=True)
class Pruned:
    """What pruning did: versions removed, and the bytes that the store took before and takes now."""

    versions: int
    size_before: int
    size: int


def prune(store: Store, verdicts: Sequence[Verdict]) -> Pruned:
    """Remove the versions that may go, in transactions of a bounded size, and give their space back.

    Raises StoreError; what was removed until then is removed, and nothing is half removed.
    """
    going = [verdict.version for verdict in verdicts if not verdict.stays]
    before = store.size()
    removed = sum(store.remove(going[at : at + _AT_ONCE]) for at in range(0, len(going), _AT_ONCE))
    store.reclaim()
    return Pruned(removed, before, store.size())
