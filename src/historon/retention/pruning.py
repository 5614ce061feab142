"""Removing what a plan says may go."""

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime
from itertools import groupby

from historon.base.errors import StoreError
from historon.retention.verdicts import Verdict
from historon.store import Removal, Store, Version

__all__ = ["Pruned", "prune"]

_AT_ONCE = 2000
_LITTLE_ROOM = 64 * 2**20


@dataclass(frozen=True)
class Pruned:
    """What pruning did: versions removed, and the bytes that the store took before and takes now."""

    versions: int
    size_before: int
    size: int


def prune(store: Store, verdicts: Sequence[Verdict], now: datetime, round_number: int | None = None) -> Pruned:
    """Remove the versions that may go, in transactions of a bounded size, and give their space back.

    What went is on record, with the retention by which it did and the round that it followed, if any. Where there is
    hardly any room, source by source, each giving room to the next. Raises StoreError; what was removed until then is
    removed, and nothing is half removed.
    """
    going = [verdict.version for verdict in verdicts if not verdict.stays]
    rules = {one.version.source: f"retention {one.retention}" for one in verdicts if not one.stays}
    removal = Removal(now, rules, round_number)
    before = store.size()
    if _has_little_room(store):
        removed = _remove_without_room(store, going, removal)
    else:
        removed = sum(store.remove(going[at : at + _AT_ONCE], removal) for at in range(0, len(going), _AT_ONCE))
    if not _has_little_room(store):
        store.reclaim()
    store.set_aside()
    return Pruned(removed, before, store.size())


def _has_little_room(store: Store) -> bool:
    room = store.room()
    return room is not None and room < _LITTLE_ROOM


def _remove_without_room(store: Store, going: Sequence[Version], removal: Removal) -> int:
    """Of each source everything at once: what stays of it is written again, and should be as little as can be."""
    removed = 0
    by_source = [list(group) for _, group in groupby(going, key=lambda version: version.source)]
    while by_source:
        failed: list[list[Version]] = []
        trouble: StoreError | None = None
        for group in by_source:
            try:
                removed += store.remove(group, removal)
                store.give_back()
            except StoreError as exc:
                failed.append(group)
                trouble = exc
        if trouble is not None and len(failed) == len(by_source):
            raise trouble  # no source gave room to another any more
        by_source = failed
    return removed
