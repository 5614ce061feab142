"""What the front door hands out, beside the records of the packages behind it."""

from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from datetime import datetime
from typing import TYPE_CHECKING

from historon.estate import Requirement, RequirementState, Source
from historon.store import Changed, Store, Version

if TYPE_CHECKING:
    from historon.collect import RoundReport
    from historon.compare import PartChange
    from historon.insight import Family, Hit, Proposal, Reader, Unmet, Variant, Weights
    from historon.notices import DeliveryResult
    from historon.timetable import OpenCondition, SourceStatus
    from historon.versions import Masks

__all__ = ["Board", "Changes", "Collected", "Difference", "Found", "NoiseFound", "Pruning", "Required", "Side"]


@dataclass(frozen=True)
class Side:
    """One side of a comparison: a version, or a plain file.

    `name` is such as `edge-1@17`, or the path of the file; `at` its instant (UTC), of a file when it was last written;
    `version` is None for a file.
    """

    name: str
    at: datetime
    contents: Mapping[str, bytes] = field(repr=False)
    version: Version | None = None


@dataclass(frozen=True)
class Difference:
    """What differs between two sides, part by part; `weights` tell how much each change matters.

    `narrowed` are parts of which `after` holds only a section from there, the rest from `before`.
    """

    before: Side
    after: Side
    parts: "Sequence[PartChange]"
    weights: "Weights" = field(repr=False)
    narrowed: frozenset[str] = frozenset()


@dataclass(frozen=True)
class Pruning:
    """Versions that were removed at one time (`at`, UTC): how many of each source, by which rules.

    `round` is the round that it followed; None for one by hand. Of what an earlier Historon removed `at` is None.
    """

    at: datetime | None
    round: int | None
    rules: tuple[str, ...]
    by_source: Mapping[str, int]

    @property
    def versions(self) -> int:
        """How many there were."""
        return sum(self.by_source.values())


@dataclass(frozen=True)
class Found:
    """Where a text stands.

    `sources` are how many sources were searched. `closed` are the parts that could not be looked into, by source and
    part, with the reason: of them nothing is known.
    """

    hits: "Sequence[Hit]"
    closed: Mapping[tuple[str, str], str]
    sources: int


@dataclass(frozen=True)
class Changes:
    """What changed across the estate: the changed versions, and their changes in families, the gravest first.

    It reads contents from the store as they are asked for, so it is of use while that is open.
    """

    changed: Sequence[Changed]
    families: "Sequence[Family]"
    _store: Store = field(repr=False)
    _rules: "Callable[[str], tuple[Masks, Reader]]" = field(repr=False)

    def forms(self, family: "Family", most: int | None = None) -> "Iterator[Variant]":
        """The forms of a family with who has them, the commonest first; secrets are masked."""
        from historon.insight import variants

        return variants(self._store, family, self._rules, most=most)


@dataclass(frozen=True)
class NoiseFound:
    """What differs in nearly every version of a source: masks to be proposed.

    `versions` are how many good versions were looked at, `in_force` how many masks its procedure has already.
    """

    proposals: "Sequence[Proposal]"
    versions: int
    in_force: int


@dataclass(frozen=True)
class Required:
    """How a source stands to what is required of it; `unmet` is None where it has no good version."""

    source: Source
    rules: Sequence[Requirement]
    unmet: "Sequence[Unmet] | None"

    @property
    def state(self) -> RequirementState:
        """Of all rules together; unknown without a good version."""
        return self.state_of()

    def state_of(self, rule: str | None = None) -> RequirementState:
        """Of one rule, or of all."""
        if self.unmet is None:
            return RequirementState.UNKNOWN
        about = [one for one in self.unmet if rule in (None, one.requirement)]
        if any(not one.unknown for one in about):
            return RequirementState.NOT_MET
        return RequirementState.UNKNOWN if about else RequirementState.MET


@dataclass(frozen=True)
class Collected:
    """What a round by hand came to, and how the notices about it fared."""

    report: "RoundReport"
    notices: "Sequence[DeliveryResult]"


@dataclass(frozen=True)
class Board:
    """How the sources stand, those in trouble first, and all that is open, the gravest first.

    Where some sources were asked for, it is what is open about these.
    """

    sources: "Sequence[SourceStatus]"
    conditions: "Sequence[OpenCondition]"

    @property
    def well(self) -> bool:
        """Whether nothing needs attention, as far as is known; what is unknown is not well."""
        return not self.conditions
