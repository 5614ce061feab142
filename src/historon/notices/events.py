"""What is told, one thing at a time, for programs that listen."""

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from datetime import timedelta
from enum import IntEnum

from historon.collect import RoundReport, SourceResult
from historon.estate import describe
from historon.store import Outcome

__all__ = ["Event", "Overdue", "Severity", "promise_events", "round_events"]


class Severity(IntEnum):
    """How grave an event is; the numbers are those of syslog (RFC 5424 section 6.2.1)."""

    CRITICAL = 2
    ERROR = 3
    WARNING = 4
    NOTICE = 5
    INFO = 6


@dataclass(frozen=True)
class Event:
    """Something that happened, fit for eyes; `advice` is what to try or where to look."""

    kind: str
    severity: Severity
    message: str
    source: str | None = None
    advice: str = ""


@dataclass(frozen=True)
class Overdue:
    """A source whose last good version is older than promised; None for no version at all."""

    source: str
    age: timedelta | None
    promise: timedelta
    note: str | None = None


def round_events(report: RoundReport) -> Iterator[Event]:
    """The events of a round, the gravest first, and at the end the round itself."""
    if report.store_trouble:
        yield Event("store-trouble", Severity.CRITICAL, report.store_trouble, advice="historon doctor")
    yield from map(_trouble, report.troubles)
    for result in report.broken:
        for one in result.broken:
            advice = f"historon expect {result.source}"
            yield Event("expectation-broken", Severity.WARNING, str(one), result.source, advice)
    for result in report.mended:
        for name in result.mended:
            yield Event("expectation-mended", Severity.NOTICE, f"{name}: as expected again", result.source)
    for result in report.of(Outcome.CHANGED):
        lines = f"version {result.number}, +{result.added} -{result.removed} lines"
        yield Event("changed", Severity.NOTICE, lines, result.source, f"historon diff {result.source}")
    for result in report.of(Outcome.FIRST):
        yield Event("first", Severity.INFO, "first version", result.source)
    well = report.count(Outcome.FIRST, Outcome.CHANGED, Outcome.UNCHANGED)
    words = f"round {report.number}: {well} of {len(report.results)} sources collected in {describe(report.took)}"
    yield Event("round-ended", Severity.INFO, words + ", interrupted" * report.interrupted)


def _trouble(result: SourceResult) -> Event:
    look = f"historon show {result.source}@{result.number}"
    if result.failure is None:
        return Event("suspect", Severity.WARNING, result.note or "", result.source, look)
    kind, severity = ("left-paused", Severity.CRITICAL) if result.left_paused else ("failed", Severity.ERROR)
    return Event(kind, severity, str(result.failure), result.source, result.failure.hint)


def promise_events(broken: Sequence[Overdue], kept: Sequence[str]) -> Iterator[Event]:
    """The events of promises that broke, or are kept again."""
    for one in broken:
        age = f"is {describe(one.age)} old" if one.age is not None else "was never made"
        message = f"its last good version {age}, {describe(one.promise)} was promised"
        yield Event("promise-broken", Severity.ERROR, message, one.source, f"historon rehearse {one.source}")
    for name in kept:
        yield Event("promise-kept", Severity.NOTICE, "its last good version is as new as promised", name)
