"""A source: its versions, what changed, and what it is asked for."""

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from typing import TYPE_CHECKING

from historon.api.context import Opened
from historon.api.history import good_records_of, records_of
from historon.api.results import Difference, NoiseFound
from historon.api.running import waiting
from historon.api.version import Version, named
from historon.base.errors import UsageError
from historon.estate import Source as Described
from historon.estate import nearest
from historon.store import RETIRED, SourceState, proofs_of

if TYPE_CHECKING:
    from historon.collect import Rehearsal, StepTaken
    from historon.insight import Traced
    from historon.store import Proof, Removed

__all__ = ["Source"]


@dataclass(frozen=True)
class Source:
    """One thing that configurations are collected from, by its `name`; also one that only the store knows."""

    name: str
    opened: Opened = field(repr=False, compare=False)

    def __str__(self) -> str:
        return self.name

    @property
    def described(self) -> Described:
        """The source's entry in the estate file. Raises UsageError when it has none."""
        return self.opened.select(self.name)[0]

    @property
    def labels(self) -> Mapping[str, str]:
        """The labels of the source, such as `{"site": "northmole"}`."""
        return self.described.labels

    @property
    def state(self) -> SourceState:
        """The number and instant of the last good version, when it was last confirmed, and the last outcome."""
        return self.opened.store.state(self.name)

    def versions(self) -> list[Version]:
        """All versions, oldest first. Raises UsageError when there is no such source.

        Example: `estate.source("edge-1").versions()[-1].number`
        """
        return [Version.of(self.opened, record) for record in records_of(self.opened, self.name)]

    def version(self, when: str | int = "latest") -> Version:
        """The version of a number, a date, an instant or an age. Raises UsageError when it does not exist.

        Example: `estate.source("edge-1").version(1).at`
        """
        return named(self.opened, f"{self.name}@{when}")

    def removed(self) -> "list[Removed]":
        """The versions that were removed, with the rule that removed each."""
        return list(self.opened.store.removed(self.name))

    def oldest_kept(self) -> int | None:
        """The number of the oldest good version, where older ones were removed; None where none was.

        Its lines may have been there before.
        """
        good = good_records_of(self.opened, self.name)
        removed = [one.number for one in self.removed()]
        return good[0].number if good and removed and min(removed) < good[0].number else None

    def diff(self, old: str | int | None = None, new: str | int = "latest", *, only: str | None = None) -> Difference:
        """The changes from one version to another; without `old` the last change of the source.

        `Estate.diff` takes more options, other sources and files. Raises UsageError when there is no change.

        Example: `estate.source("edge-1").diff(1, 2).parts`
        """
        from historon.api.comparing import compared

        masks = self.opened.masks
        if old is None:
            return compared(self.opened, self.name, None, only, masks)
        return compared(self.opened, f"{self.name}@{old}", f"{self.name}@{new}", only, masks)

    def trace(self, text: str, *, expression: bool = False, exact_case: bool = False, reveal: bool = False) -> "Traced":
        """The history of each line that contains a text, or contained it: when it was added, edited and removed.

        Example: `estate.source("edge-1").trace("time-server").lives`
        """
        from historon.api.looking import checked_query
        from historon.insight import trace

        query = checked_query(text, expression=expression, exact_case=exact_case)
        good = good_records_of(self.opened, self.name)
        return trace(self.opened.store, good, query, self.opened.masks(self.name, reveal=reveal))

    def noise(self) -> NoiseFound:
        """Proposals of masks for lines that change in nearly every version.

        Example: `estate.source("edge-1").noise().proposals`
        """
        from historon.insight import study

        procedure = self.opened.described.procedure_of(self.described)
        history = good_records_of(self.opened, self.name)
        found = study(self.opened.store, history, self.opened.masks(self.name))
        return NoiseFound(found, len(history), len(procedure.noise))

    def proofs(self) -> "dict[int, Proof]":
        """The verdict of the last proof of each version, by the version's number.

        Example: `estate.source("edge-1").proofs()`
        """
        return proofs_of(self.opened.store, self.name, self.opened.described.proof_digests.get(self.name))

    async def rehearse_async(self, *, observer: "Callable[[StepTaken], None] | None" = None) -> "Rehearsal":
        """Go through the procedure for real and store nothing; `observer` is called after each step.

        Example: `estate.source("edge-1").rehearse().judged`
        """
        from historon.collect import rehearse

        opened = self.opened
        hear = observer or (lambda step: None)
        return await rehearse(opened.described, self.described, opened.store, clock=opened.clock, told=hear)

    rehearse = waiting(rehearse_async)

    def retire(self, because: str) -> None:
        """Record why a source that has versions is no longer in the estate file: it is then not reported as missing.

        Raises UsageError when there is no such source, or when the estate file still describes it.

        Example: `[estate.source(name).retire("sold") for name in estate.missing()]`
        """
        described = self.opened.described
        if self.name in described.sources:
            hint = f"remove it from {described.file} first"
            raise UsageError(f"{self.name} is still in the estate file: it is collected", hint=hint)
        from historon.api.ownership import missing_from

        if self.name not in missing_from(self.opened):
            records_of(self.opened, self.name)
        self.opened.to_write().remember(self.name, RETIRED, because)

    def rename(self, new: str) -> int:
        """Move the versions of this source to another name; returns the number of versions.

        Raises UsageError when the estate file does not describe the new name, or still describes the old one;
        StoreError when the new name has versions already.

        Example: `estate.source("edge-1").rename("edge-9") if "edge-9" in estate.described.sources else None`
        """
        opened = self.opened
        if self.name in opened.described.sources:
            hint = f"rename it to {new} in the estate file first"
            raise UsageError(f"{self.name} is still in the estate file", hint=hint)
        opened.select(new)
        if not opened.store.versions(self.name):
            raise UsageError(f'"{self.name}" has no versions', hint=nearest(self.name, opened.store.states()))
        return opened.to_write().rename(self.name, new, opened.clock())
