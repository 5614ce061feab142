"""From an export to what the ledger should say of it: whether it is new, noise, or doubtful."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from historon.compare import Masks, PartChange, comparable, compare_exports, signature
from historon.estate import Procedure
from historon.inspection import Kept, inspect
from historon.store import Outcome, Part, State, Store, StoredPart

__all__ = ["Judged", "judge"]


@dataclass(frozen=True)
class Judged:
    """An export with its verdict, ready to become an entry; `as_it_was` when it is the last one byte for byte."""

    outcome: Outcome
    parts: Sequence[Part | StoredPart]
    state: State = State.GOOD
    changes: Sequence[PartChange] = ()
    doubts: Sequence[str] = ()
    signature: bytes | None = None
    as_it_was: bool = False

    @property
    def added(self) -> int:
        """Lines that came, over all parts."""
        return sum(change.added for change in self.changes)

    @property
    def removed(self) -> int:
        """Lines that went, over all parts."""
        return sum(change.removed for change in self.changes)


def judge(store: Store, source: str, kept: Sequence[Kept], procedure: Procedure, masks: Masks) -> Judged:
    """Inspect an export and hold it against the source's last good version. StoreError when that cannot be read."""
    good = store.state(source).good
    before = {part.name: part for part in store.parts(source, good)} if good is not None else {}
    doubts = inspect(kept, procedure)
    new: dict[str, Part | StoredPart] = {one.part.name: one.part for one in kept}
    sides = _differing(store, before, new)
    changes = compare_exports(*sides, masks)
    if doubts:
        return Judged(Outcome.SUSPECT, [*new.values()], State.SUSPECT, changes, doubts)
    bits = _signature(store, source, sides, new)
    if good is None:
        return Judged(Outcome.FIRST, [*new.values()], State.GOOD, changes, signature=bits)
    if as_before := _following(kept, before, {change.name for change in changes}):
        new |= as_before
        changes = [change for change in changes if not any(_belongs(change.name, name) for name in as_before)]
    quiet = [one.part.name for one in kept if one.step.record_only]
    telling = [change for change in changes if not any(_belongs(change.name, name) for name in quiet)]
    if not telling:
        return Judged(Outcome.UNCHANGED, [*new.values()], State.NOISE, signature=bits, as_it_was=not any(sides))
    return Judged(Outcome.CHANGED, [*new.values()], State.GOOD, telling, signature=bits)


_Contents = Mapping[str, bytes]


def _differing(
    store: Store, before: Mapping[str, StoredPart], new: Mapping[str, Part | StoredPart]
) -> tuple[_Contents, _Contents]:
    """The contents of the parts that are not the same, before and now."""
    differing = [
        name
        for name in before.keys() | new.keys()
        if name not in before or name not in new or before[name].sha256 != new[name].sha256
    ]
    return (
        {name: comparable(before[name], store) for name in differing if name in before},
        {name: comparable(new[name], store) for name in differing if name in new},
    )


def _signature(
    store: Store, source: str, sides: tuple[_Contents, _Contents], new: Mapping[str, Part | StoredPart]
) -> bytes | None:
    """What is new in the export to be found by; all of it where nothing is kept yet, and None without an index."""
    if not store.indexed or not any(sides):
        return None
    if not store.signed(source):
        return signature({}, {name: comparable(part, store) for name, part in new.items()})
    return signature(*sides)


def _following(kept: Sequence[Kept], before: Mapping[str, StoredPart], changed: set[str]) -> dict[str, StoredPart]:
    """Parts that follow others of which none changed: they stay what they were."""
    return {
        one.part.name: before[one.part.name]
        for one in kept
        if one.step.follows and one.part.name in before and not any(_belongs(n, one.step.follows) for n in changed)
    }


def _belongs(name: str, followed: str) -> bool:
    """Whether a part is this one, or what is in it."""
    return name == followed or name.startswith(followed.rstrip("/") + "/")
