"""From an export to what the ledger should say of it: whether it is new, noise, or doubtful."""

from collections.abc import Sequence
from dataclasses import dataclass

from historon.compare import Masks, PartChange, compare_exports
from historon.store import Outcome, Part, State, Store

__all__ = ["Judged", "judge"]


@dataclass(frozen=True)
class Judged:
    """An export with its verdict, ready to become an entry."""

    outcome: Outcome
    parts: Sequence[Part]
    state: State = State.GOOD
    changes: Sequence[PartChange] = ()
    note: str | None = None

    @property
    def added(self) -> int:
        """Lines that came, over all parts."""
        return sum(change.added for change in self.changes)

    @property
    def removed(self) -> int:
        """Lines that went, over all parts."""
        return sum(change.removed for change in self.changes)


def judge(store: Store, source: str, parts: Sequence[Part], doubts: Sequence[str], masks: Masks) -> Judged:
    """Hold an export against the source's last good version. StoreError when that cannot be read."""
    good = store.state(source).good
    before = {part.name: part for part in store.parts(source, good)} if good is not None else {}
    new = {part.name: part for part in parts}
    differing = [
        name
        for name in before.keys() | new.keys()
        if name not in before or name not in new or before[name].sha256 != new[name].sha256
    ]
    changes = compare_exports(
        {name: store.read(before[name]) for name in differing if name in before},
        {name: new[name].content for name in differing if name in new},
        masks,
    )
    if doubts:
        return Judged(Outcome.SUSPECT, parts, State.SUSPECT, changes, "; ".join(doubts))
    if good is None:
        return Judged(Outcome.FIRST, parts, State.GOOD, changes)
    if not changes:
        return Judged(Outcome.UNCHANGED, parts, State.NOISE)
    return Judged(Outcome.CHANGED, parts, State.GOOD, changes)
