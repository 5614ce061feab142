"""What a round tells while it runs, and what it has to say when it ended."""

import re
from collections import Counter
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field, replace
from datetime import datetime, timedelta
from typing import Self

from historon.collect.failures import TAIL, CollectError, FailureKind, OfferedKey
from historon.collect.judging import ChangedLine
from historon.collect.taking import StepTaken
from historon.collect.unfinished import Resumed
from historon.insight import Unmet
from historon.store import Outcome
from historon.versions import Masks

__all__ = ["Failure", "Observer", "RoundReport", "SourceBegan", "SourceResult", "SourceStep", "cause_of"]

_BINARY = re.compile(rb"[\x00-\x06\x0e-\x10\x12\x14-\x1a\x1c-\x1f]")  # no terminal's, nor any text's
_BROKEN = re.compile(rb"[^\n]*\n|[^\s,;&]*[\s,;&]?")  # the rest of a line, or of a word where there is but one line


@dataclass(frozen=True)
class Failure:
    """Why a source failed, fit for eyes: secrets in the tail are masked."""

    kind: FailureKind
    message: str
    hint: str
    step: str = ""
    tail: str = ""
    offered: OfferedKey | None = None

    @classmethod
    def of(cls, exc: CollectError, masks: Masks) -> Self:
        """A failure as it may be shown."""
        tail = masks.hide(_shown(exc.tail)).decode("utf-8", "replace")
        return cls(exc.kind, masks.told(exc.message), exc.hint, masks.told(exc.step), tail, exc.offered)

    def __str__(self) -> str:
        place = f"{self.step}: " if self.step else ""
        return f"{place}{self.message}"


def _shown(tail: bytes) -> bytes:
    """The end of an answer without what nobody can tell the secrets of: binary data, and what lacks its beginning."""
    if _BINARY.search(tail):
        return b""
    return _BROKEN.sub(b"", tail, count=1) if len(tail) >= TAIL else tail


@dataclass(frozen=True)
class SourceBegan:
    """A source's turn has come."""

    source: str


@dataclass(frozen=True)
class SourceStep:
    """A source has taken a step; what is shown of it has its secrets masked."""

    source: str
    taken: StepTaken = field(repr=False)
    masks: Masks = field(repr=False)

    @property
    def place(self) -> str:
        """Which step."""
        return self.masks.told(self.taken.place)

    @property
    def answer(self) -> bytes:
        """What came back."""
        return self.masks.hide(self.taken.answer)


@dataclass(frozen=True)
class SourceResult:
    """How one source fared; whatever version it names is on disk, and all of it on record in its `round`, if any.

    What changed is reported in `lines` and in the fingerprints of `families`;
    `unmet` are the requirements that it newly fails, `met_again` the names of those that it meets again; `waiting` is
    how many more exports wait there, to be taken in the same round.
    """

    source: str
    outcome: Outcome
    took: timedelta
    number: int | None = None
    added: int = 0
    removed: int = 0
    note: str | None = None
    failure: Failure | None = None
    lines: Sequence[ChangedLine] = field(default=(), repr=False)
    families: bytes = field(default=b"", repr=False)
    round: int | None = None
    unmet: Sequence[Unmet] = ()
    met_again: Sequence[str] = ()
    waiting: int = 0

    @property
    def look(self) -> str:
        """The command that shows the export; one that had no part at all is no version."""
        if self.number is None:
            return f"historon versions {self.source}"
        return f"historon show {self.source}@{self.number}"

    @property
    def not_resumed(self) -> bool:
        """Whether its service was paused and not resumed."""
        return self.failure is not None and self.failure.kind is FailureKind.PAUSED


@dataclass(frozen=True)
class RoundReport:
    """A round that ended. `store_trouble` is set when the ledger could not take all of it.

    `earlier` are the numbers of rounds that it went to some sources of again, `resumed` what became of services that
    were left paused by another process.
    """

    estate: str
    number: int | None
    began: datetime
    ended: datetime
    results: Sequence[SourceResult]
    interrupted: bool = False
    store_trouble: str | None = None
    remarks: Sequence[str] = ()
    earlier: tuple[int, ...] = ()
    resumed: Sequence[Resumed] = ()

    @property
    def took(self) -> timedelta:
        """How long the round lasted."""
        return self.ended - self.began

    def followed_by(self, later: "RoundReport") -> "RoundReport":
        """Both rounds as one, where a later one went to some of the sources again."""
        anew = {result.source: result for result in later.results}
        return replace(
            later,
            began=self.began,
            results=[anew.get(result.source, result) for result in self.results],
            interrupted=self.interrupted or later.interrupted,
            store_trouble=self.store_trouble or later.store_trouble,
            remarks=[*self.remarks, *later.remarks],
            earlier=(*self.earlier, *filter(None, [self.number])),
            resumed=[*self.resumed, *later.resumed],
        )

    @property
    def not_resumed(self) -> int:
        """How many sources stand still because of us: the most severe outcome there is."""
        in_this_round = sum(result.not_resumed for result in self.results)
        before = sum(bool(one.trouble) for one in self.resumed)
        return in_this_round + before

    @property
    def troubles(self) -> list[SourceResult]:
        """What needs action, by name: sources whose service was not resumed first, then failed and suspect ones."""
        return sorted(self.of(Outcome.FAILED, Outcome.SUSPECT), key=lambda result: not result.not_resumed)

    @property
    def in_trouble(self) -> bool:
        """Whether anything in it needs action: a source, a service that stands still, or the store."""
        return bool(self.troubles or self.not_resumed or self.store_trouble)

    @property
    def troubles_by_cause(self) -> list[list[SourceResult]]:
        """The same, sources together that failed for the very same reason: a machine of seven sources is down once."""
        causes: dict[tuple[str, ...], list[SourceResult]] = {}
        for result in self.troubles:
            causes.setdefault(_cause(result), []).append(result)
        return list(causes.values())

    @property
    def failing_requirements(self) -> list[SourceResult]:
        """The sources that newly fail a requirement, by name."""
        return sorted((result for result in self.results if result.unmet), key=lambda result: result.source)

    @property
    def meeting_again(self) -> list[SourceResult]:
        """The sources that meet a requirement again, by name."""
        return sorted((result for result in self.results if result.met_again), key=lambda result: result.source)

    def count(self, *outcomes: Outcome) -> int:
        """How many sources had one of these outcomes."""
        tally = Counter(result.outcome for result in self.results)
        return sum(tally[outcome] for outcome in outcomes)

    @property
    def tally(self) -> dict[Outcome, int]:
        """How many sources had which outcome, in the order of outcomes; without those that none had."""
        found = Counter(result.outcome for result in self.results)
        return {outcome: found[outcome] for outcome in Outcome if found[outcome]}

    def of(self, *outcomes: Outcome) -> list[SourceResult]:
        """The results with one of these outcomes, by name of the source."""
        return sorted((r for r in self.results if r.outcome in outcomes), key=lambda result: result.source)


Observer = Callable[[SourceBegan | SourceStep | SourceResult], None]


def cause_of(source: str, *texts: str) -> tuple[str, ...]:
    """What equal failures have in common: what is said of them, whatever the source is called."""
    return ("", *(text.replace(source, "{source}") for text in texts))


def _cause(result: SourceResult) -> tuple[str, ...]:
    """The cause of a failure; what else went wrong has one of its own."""
    failure = result.failure
    if failure is None or result.not_resumed:
        return (result.source,)
    return cause_of(result.source, failure.kind, failure.step, failure.message, failure.hint, failure.tail)
