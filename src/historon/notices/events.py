"""What is reported, one thing at a time: events, fit for eyes, and complete enough to write notices from."""

from collections.abc import Iterator, Sequence
from datetime import datetime

import msgspec

from historon.base.quantities import utc_text
from historon.collect import ChangedLine, FailureKind, RoundReport, SourceResult
from historon.estate import EVENT_KINDS, Severity, describe
from historon.store import Outcome

__all__ = ["ChangedLine", "Event", "as_it_is_now", "change_events", "round_ended", "state_of", "trouble_event"]

_NAMED = 20  # sources
_TAIL = 3  # lines of what a device said


class Event(msgspec.Struct, frozen=True, omit_defaults=True):
    """Something that happened; `advice` is what to try, `look` the command that tells more.

    `at` is in UTC, `details` are further lines, and `excerpt` what the other side said. A change has its `version`,
    the lines that it `added` and `removed`, its `lines`, and the fingerprints by which families of changes are found.
    The end of a round has its `counts` by outcome, and how many sources `elsewhere` went wrong at their last try.
    `subject` tells apart what is of no source, such as two copies.
    """

    kind: str
    at: datetime
    message: str
    source: str | None = None
    advice: str = ""
    look: str = ""
    details: tuple[str, ...] = ()
    excerpt: tuple[str, ...] = ()
    version: int | None = None
    added: int = 0
    removed: int = 0
    lines: tuple[ChangedLine, ...] = ()
    families: bytes = b""
    counts: dict[str, int] = {}
    elsewhere: int = 0
    subject: str = ""

    @property
    def about(self) -> str:
        """What it is about, so that the end of a trouble differs from that of another."""
        return self.source or self.subject

    @property
    def severity(self) -> Severity:
        """How grave it is."""
        return EVENT_KINDS[self.kind].severity

    @property
    def data(self) -> dict[str, object]:
        """The event for programs and templates, as it is documented in docs/notices.md."""
        return {
            "kind": self.kind,
            "severity": self.severity.word,
            "severity_number": int(self.severity),
            "at": utc_text(self.at),
            "source": self.source,
            "version": self.version,
            "message": self.message,
            "details": self.details,
            "advice": self.advice,
            "look": self.look,
        }


def state_of(result: SourceResult) -> str:
    """What is amiss with a source after this result, as a kind of event; empty for nothing."""
    if result.outcome is Outcome.SUSPECT:
        return "suspect"
    if result.failure is None:
        return ""
    kinds = {FailureKind.PAUSED: "not-resumed", FailureKind.IDENTITY_CHANGED: "identity-changed"}
    return kinds.get(result.failure.kind, "failing")


def trouble_event(kind: str, result: SourceResult, at: datetime, prefix: str = "") -> Event:
    """The event of this kind about a source that failed or is suspect."""
    failure = result.failure
    if failure is None:
        look = result.look
        return Event(kind, at, prefix + (result.note or ""), result.source, look=look, version=result.number)
    where = (f"at {failure.step}",) if failure.step else ()
    excerpt = tuple(failure.tail.splitlines()[-_TAIL:])
    look = f"historon rehearse {result.source}" if kind != "not-resumed" else ""  # that would pause it again
    return Event(kind, at, prefix + failure.message, result.source, failure.hint, look, where, excerpt)


def change_events(result: SourceResult, at: datetime) -> Iterator[Event]:
    """What is new in a source: its first version, a changed one, requirements that it fails or meets again."""
    name = result.source
    if result.unmet:
        unmet = tuple(map(str, result.unmet))
        yield Event("requirement-failed", at, unmet[0], name, look=f"historon requirements {name}", excerpt=unmet)
    for one in result.met_again:
        yield Event("requirement-met", at, one, name)
    if result.outcome is Outcome.NEW:
        words = "first version; there is no earlier one to compare: look at it"
        yield Event("new", at, words, name, look=f"historon show {name}", version=result.number)
    if result.outcome is Outcome.SKIPPED:
        yield Event("skipped", at, result.note or "", name)
    if result.outcome is Outcome.CHANGED:
        words = f"version {result.number}, +{result.added} -{result.removed} lines"
        yield Event(
            "changed",
            at,
            words,
            name,
            look=f"historon diff {name}",
            version=result.number,
            added=result.added,
            removed=result.removed,
            lines=tuple(result.lines),
            families=result.families,
        )


def round_ended(report: RoundReport, as_before: Sequence[str] = (), elsewhere: int = 0) -> Event:
    """A round as a whole; `as_before` are the sources that are as bad as people were notified of before."""
    more = f" and {len(as_before) - _NAMED} more" if len(as_before) > _NAMED else ""
    known = [f"Still not well, as reported before: {', '.join(sorted(as_before)[:_NAMED])}{more}."] if as_before else []
    well = report.count(*(outcome for outcome in Outcome if outcome.good))
    words = f"round {report.number}: {well} of {len(report.results)} sources collected in {describe(report.took)}"
    counts = {outcome.value: number for outcome, number in report.tally.items()}
    return Event(
        "round-ended",
        report.ended,
        words + ", interrupted" * report.interrupted,
        look=f"historon rounds {report.number}",
        details=(*known, *report.remarks),
        counts=counts,
        elsewhere=elsewhere,
    )


def as_it_is_now(events: Sequence[Event]) -> list[Event]:
    """The events of a digest without troubles that are over by now, and each that goes on only once.

    Of a trouble that began and ended in the time of the digest its end is left, which says how long it took.
    """
    left: list[Event] = []
    for event in events:
        kind = EVENT_KINDS[event.kind]
        if kind.ends:
            left = [one for one in left if EVENT_KINDS[one.kind].over != event.kind or one.about != event.about]
        elif kind.over:
            same = {event.kind, *(one.name for one in EVENT_KINDS.values() if event.kind in (one.still, one.name))}
            same |= {kind.still} if kind.still else set()
            left = [one for one in left if one.kind not in same or one.about != event.about]
        left.append(event)
    return left
