"""From an export to what the ledger should say of it: is it new, is it noise, is it doubtful?"""

from collections.abc import Sequence
from dataclasses import dataclass

from historon.compare import Masks, compare_exports
from historon.store import Outcome, Part, State, Store

__all__ = ["Judged", "judge"]


@dataclass(frozen=True)
class Judged:
    """An export with its verdict, ready to become an entry; no parts when there is nothing to store."""

    outcome: Outcome
    parts: Sequence[Part]
    state: State = State.GOOD
    added: int = 0
    removed: int = 0
    note: str | None = None


def judge(store: Store, source: str, parts: Sequence[Part], doubts: Sequence[str], masks: Masks) -> Judged:
    """Hold an export against the source's last good version. StoreError when that cannot be read."""
    good = store.state(source).good
    before = store.parts(source, good) if good is not None else []
    if {(part.name, part.sha256) for part in before} == {(part.name, part.sha256) for part in parts} and not doubts:
        return Judged(Outcome.UNCHANGED, parts)
    known = {part.name: part for part in before}
    differing = [part for part in parts if part.name not in known or known[part.name].sha256 != part.sha256]
    gone = known.keys() - {part.name for part in parts}
    changes = compare_exports(
        {name: store.read(known[name]) for name in (*(p.name for p in differing if p.name in known), *gone)},
        {part.name: part.content for part in differing},
        masks,
    )
    added, removed = sum(change.added for change in changes), sum(change.removed for change in changes)
    if doubts:
        return Judged(Outcome.SUSPECT, parts, State.SUSPECT, added, removed, "; ".join(doubts))
    if good is None:
        return Judged(Outcome.FIRST, parts, State.GOOD, added, removed)
    if not changes:
        return Judged(Outcome.UNCHANGED, parts, State.NOISE)
    return Judged(Outcome.CHANGED, parts, State.GOOD, added, removed)
