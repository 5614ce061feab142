"""From an export to what the ledger should say of it: whether it is new, noise, or doubtful."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace

from historon.compare import Masks, PartChange, comparable, compare_exports, signature
from historon.errors import where_raised
from historon.estate import Estate, Procedure, Share, Source
from historon.inspection import Inspection, Kept, inspect
from historon.store import Outcome, Part, State, Store, StoredPart

__all__ = ["Judged", "Question", "judge", "max_shrink_of", "question_about"]

_Contents = Mapping[str, bytes]


@dataclass(frozen=True)
class Judged:
    """An export with its verdict, ready to become an entry; `as_it_was` when it is the last one byte for byte.

    `doubts` make it suspect; `remarks` are what could not be looked into or compared.
    """

    outcome: Outcome
    parts: Sequence[Part | StoredPart]
    state: State = State.GOOD
    changes: Sequence[PartChange] = ()
    doubts: Sequence[str] = ()
    remarks: Sequence[str] = ()
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


@dataclass(frozen=True)
class Question:
    """All that judging an export takes, read from the store beforehand: the answer touches no store.

    `before` are the parts of the last good version, None without one; `sides` the contents of the parts that differ,
    before and now. `signed` says whether the source has a signature already; None where none is kept.
    """

    kept: Sequence[Kept]
    procedure: Procedure
    masks: Masks = field(repr=False)
    max_shrink: Share
    before: Mapping[str, StoredPart] | None
    sides: tuple[_Contents, _Contents] = field(repr=False)
    signed: bool | None

    @property
    def new(self) -> dict[str, Part | StoredPart]:
        """The parts of the export by name."""
        return {one.part.name: one.part for one in self.kept}

    def answer(self) -> Judged:
        """The verdict. Whatever goes wrong while foreign bytes are looked at is part of it, and raises nothing."""
        inspection, changes, remarks = self._inspected(), *self._compared()
        remarks += inspection.unknown
        if inspection.doubts:
            parts = [*self.new.values()]
            return Judged(Outcome.SUSPECT, parts, State.SUSPECT, changes or (), inspection.doubts, remarks)
        judged = self._weighed(changes)
        bits, trouble = self._signature()
        return replace(judged, remarks=[*remarks, *trouble], signature=bits)

    def _inspected(self) -> Inspection:
        try:
            return inspect(self.kept, self.procedure, self.before or {}, self.sides[0], self.max_shrink)
        except Exception as exc:
            return Inspection([f"it could not be inspected: {where_raised(exc)}"])

    def _compared(self) -> tuple[list[PartChange] | None, list[str]]:
        """What changed; None, and why, where that could not be found out."""
        try:
            changes = compare_exports(*self.sides, self.masks)
            _ = [change.changes for change in changes]
        except Exception as exc:
            return None, [f"not compared with the version before: {where_raised(exc)}"]
        return changes, []

    def _weighed(self, changes: Sequence[PartChange] | None) -> Judged:
        """What an export without doubts is. One that could not be compared counts as changed: sameness is not shown."""
        new = self.new
        if self.before is None:
            return Judged(Outcome.FIRST, [*new.values()], State.GOOD, changes or ())
        if changes is None:
            return Judged(Outcome.CHANGED, [*new.values()], State.GOOD)
        if as_before := _following(self.kept, self.before, {change.name for change in changes}):
            new |= as_before
            changes = [one for one in changes if not any(_belongs(one.name, name) for name in as_before)]
        quiet = [one.part.name for one in self.kept if one.step.record_only]
        telling = [one for one in changes if not any(_belongs(one.name, name) for name in quiet)]
        if not telling:
            as_it_was = not any(self.sides)
            return Judged(Outcome.UNCHANGED, [*new.values()], State.NOISE, as_it_was=as_it_was)
        return Judged(Outcome.CHANGED, [*new.values()], State.GOOD, telling)

    def _signature(self) -> tuple[bytes | None, list[str]]:
        """What is new in the export to be found by; all of it where nothing is kept yet.

        None without an index, and where it could not be made: then the source is searched by reading it.
        """
        if self.signed is None or not any(self.sides):
            return None, []
        try:
            if self.signed:
                return signature(*self.sides), []
            whole = {one.part.name: one.part.content for one in self.kept if one.part.spool is None}
            return signature({}, whole), []
        except Exception as exc:
            return None, [f"not indexed: {where_raised(exc)}"]


def question_about(
    store: Store, source: str, kept: Sequence[Kept], procedure: Procedure, masks: Masks, max_shrink: Share
) -> Question:
    """What is to be found out about an export, with all that the store knows. StoreError when it cannot be read."""
    good = store.state(source).good
    before = {part.name: part for part in store.parts(source, good)} if good is not None else None
    sides = _differing(store, before or {}, {one.part.name: one.part for one in kept})
    signed = store.signed(source) if store.indexed else None
    return Question(kept, procedure, masks, max_shrink, before, sides, signed)


def judge(
    store: Store, source: str, kept: Sequence[Kept], procedure: Procedure, masks: Masks, max_shrink: Share | None = None
) -> Judged:
    """Inspect an export and compare it with the source's last good version. StoreError when that cannot be read."""
    return question_about(store, source, kept, procedure, masks, max_shrink or procedure.max_shrink).answer()


def max_shrink_of(estate: Estate, source: Source) -> Share:
    """How much of an export may be gone before it is suspect: the source's own share, else its procedure's."""
    return source.max_shrink if source.max_shrink is not None else estate.procedure_of(source).max_shrink


def _differing(store: Store, before: Mapping[str, StoredPart], new: Mapping[str, Part]) -> tuple[_Contents, _Contents]:
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
