"""Every kind of event, in one table: a new one is a row here, and a row in docs/notices.md."""

from collections.abc import Mapping
from dataclasses import dataclass, replace
from enum import IntEnum

__all__ = ["EVENT_KINDS", "EventKind", "Severity"]


class Severity(IntEnum):
    """How grave an event is; the numbers are those of syslog (RFC 5424 section 6.2.1)."""

    CRITICAL = 2
    ERROR = 3
    WARNING = 4
    NOTICE = 5
    INFO = 6

    @property
    def word(self) -> str:
        """What it is called: `critical`, `error`, `warning`, `notice` or `info`."""
        return self.name.lower()


@dataclass(frozen=True)
class EventKind:
    """One kind of event.

    `subject` is what it is called in the subject of a letter; empty for what is not counted there. `words` are what a
    letter says of it, behind the name of its source where it is `per_source`; `heading` is where in a letter it stands.
    `still` is the kind by which it is reported again, `over` the one that tells its end; `ends` says that it is the end
    of a trouble: whoever is notified of a trouble is notified of its end. Of kinds with `by_cause`, sources that went
    wrong for one reason are reported together.
    """

    name: str
    severity: Severity
    subject: str
    words: str
    per_source: bool
    still: str = ""
    over: str = ""
    ends: bool = False
    by_cause: bool = False
    _heading: str = "Also"

    @property
    def is_trouble(self) -> bool:
        """Whether somebody has to do something."""
        return self.severity <= Severity.WARNING

    @property
    def heading(self) -> str:
        """The section of a letter that it stands in."""
        if self.is_trouble:
            return "Needs action"
        return "Well again" if self.ends else self._heading


_CRITICAL, _ERROR, _WARNING = Severity.CRITICAL, Severity.ERROR, Severity.WARNING


def _source(
    name: str,
    severity: Severity,
    subject: str,
    words: str,
    *,
    still: str = "",
    by_cause: bool = False,
    heading: str = "Also",
) -> EventKind:
    return EventKind(name, severity, subject, words, True, still, by_cause=by_cause, _heading=heading)


def _whole(name: str, severity: Severity, subject: str, words: str) -> EventKind:
    return EventKind(name, severity, subject, words, per_source=False)


def _end(name: str, subject: str, words: str, *, per_source: bool) -> EventKind:
    return EventKind(name, Severity.NOTICE, subject, words, per_source, ends=True)


_TABLE = (
    _source("not-resumed", _CRITICAL, "SERVICE NOT RESUMED", "its service was paused and is NOT RESUMED"),
    _source("identity-changed", _CRITICAL, "IDENTITY CHANGED", "its host key or certificate has changed"),
    _whole("store-trouble", _CRITICAL, "STORE TROUBLE", "The store is in trouble"),
    _whole("store-damaged", _CRITICAL, "STORE DAMAGED", "The store is damaged"),
    _whole("store-claimed", _CRITICAL, "ANOTHER'S STORE", "The store belongs to another estate"),
    _whole("sources-missing", _CRITICAL, "SOURCES MISSING", "Sources are missing from the estate file"),
    _whole("copy-refused", _CRITICAL, "COPY AND STORE DIFFER", "A copy and the store contradict each other"),
    _source("failing", _ERROR, "FAILED", "could not be collected", still="still-failing", by_cause=True),
    _source("still-failing", _ERROR, "STILL FAILING", "still cannot be collected", by_cause=True),
    _source("overdue", _ERROR, "OVERDUE", "overdue", still="still-overdue"),
    _source("still-overdue", _ERROR, "STILL OVERDUE", "still overdue"),
    _source("age-unknown", _ERROR, "AGE UNKNOWN", "the age of its last good version is unknown"),
    _whole("timetable-missed", _ERROR, "TIMETABLE NOT KEPT", "A timetable is not kept"),
    _whole("channel-failing", _ERROR, "NOT NOTIFIED", "A channel does not deliver"),
    _source("not-described", _WARNING, "NOT DESCRIBED", "has versions, but is missing from the estate file"),
    _source("not-scheduled", _WARNING, "NOT SCHEDULED", "had a timetable, and has none any more"),
    _source("skipped-long", _WARNING, "SKIPPED FOR LONG", "is skipped, and its last good version is old"),
    _whole("clock-doubtful", _WARNING, "CLOCK IN DOUBT", "This machine's clock is in doubt"),
    _whole("heartbeat-failing", _WARNING, "HEARTBEAT FAILS", "The heartbeat does not arrive"),
    _source("push-failed", _ERROR, "PUSH FAILED", "push failed; the current state of the source is unknown"),
    _whole("estate-refused", _ERROR, "ESTATE FILE INVALID", "The estate file is invalid"),
    _whole("service-died", _ERROR, "SERVICE DIED", "The previous service did not end properly"),
    _whole("collecting-missed", _ERROR, "NOT COLLECTED", "Nothing was collected for some time"),
    _whole("copy-damaged", _ERROR, "COPY DAMAGED", "A copy is damaged"),
    _whole("collecting-blocked", _ERROR, "COLLECTING IS BLOCKED", "Collecting is blocked"),
    _source("suspect", _WARNING, "SUSPECT", "the export is suspect and was set aside", still="still-suspect"),
    _source("still-suspect", _WARNING, "STILL SUSPECT", "the export is still suspect"),
    _source("flapping", _WARNING, "FLAPPING", "fails and recovers again and again"),
    _source("requirement-failed", _WARNING, "NOT AS REQUIRED", "does not meet a requirement"),
    _source("not-proven", _WARNING, "NOT PROVEN", "its last good version is not proven", still="still-not-proven"),
    _source("still-not-proven", _WARNING, "STILL NOT PROVEN", "its last good version is still not proven"),
    _whole("estate-changed", _WARNING, "ESTATE FILE CHANGED", "The estate file changed"),
    _whole("disk-low", _WARNING, "DISK LOW", "The disk is filling up"),
    _whole("copy-behind", _WARNING, "COPY BEHIND", "A copy is behind"),
    _whole("pruning-blocked", _WARNING, "PRUNING IS BLOCKED", "Pruning is paused until somebody confirms it"),
    _end("recovered", "recovered", "collected again", per_source=True),
    _end("resumed", "service resumed", "its service was left paused, and is resumed now", per_source=True),
    _end("fresh-again", "fresh again", "fresh again", per_source=True),
    _end("requirement-met", "as required again", "meets its requirement again", per_source=True),
    _end("proven-again", "proven again", "its last good version is proven again", per_source=True),
    _end("known-again", "known again", "is well again", per_source=True),
    _end("well-again", "well again", "It is well again", per_source=False),
    _end("disk-well", "disk space free again", "The disk has enough free space again", per_source=False),
    _end("store-verified", "store verified", "The store was verified", per_source=False),
    _end("copy-well", "copy up to date", "A copy is up to date again", per_source=False),
    _end("pruning-again", "pruning again", "Pruning has resumed", per_source=False),
    _end("estate-accepted", "estate file valid again", "The estate file is valid again", per_source=False),
    _end("collecting-again", "collecting again", "Collecting is possible again", per_source=False),
    _source("frozen", Severity.NOTICE, "frozen", "is older than its max_age, because of a freeze"),
    _source("pushed", Severity.NOTICE, "pushed", "a version was pushed"),
    _source("changed", Severity.NOTICE, "changed", "changed", heading="Changed"),
    _source("new", Severity.INFO, "new", "new", heading="New"),
    _source("skipped", Severity.INFO, "", "skipped", heading="Skipped"),
    _whole("service-started", Severity.INFO, "service started", "The service has started"),
    _whole("service-stopped", Severity.INFO, "service stopped", "The service has stopped"),
    _whole("pruned", Severity.INFO, "pruned", "Versions were removed"),
    _whole("round-ended", Severity.INFO, "", "The round has ended"),
    _whole("all-well", Severity.INFO, "all is well", "All is well"),
    _whole("test", Severity.INFO, "a test, nothing is wrong", "A test"),
)
# By the kind that tells an end, the kinds of what is over then.
_OVER = {
    "recovered": (
        "failing",
        "still-failing",
        "identity-changed",
        "suspect",
        "still-suspect",
        "flapping",
        "push-failed",
    ),
    "resumed": ("not-resumed",),
    "fresh-again": ("overdue", "still-overdue"),
    "known-again": ("age-unknown", "not-described", "not-scheduled", "skipped-long"),
    "well-again": (
        "store-claimed",
        "sources-missing",
        "timetable-missed",
        "channel-failing",
        "clock-doubtful",
        "heartbeat-failing",
    ),
    "requirement-met": ("requirement-failed",),
    "proven-again": ("not-proven", "still-not-proven"),
    "disk-well": ("disk-low",),
    "store-verified": ("store-damaged",),
    "copy-well": ("copy-refused", "copy-damaged", "copy-behind"),
    "pruning-again": ("pruning-blocked",),
    "estate-accepted": ("estate-refused",),
    "collecting-again": ("collecting-blocked",),
}
_ENDED_BY = {kind: end for end, kinds in _OVER.items() for kind in kinds}
# The gravest first; docs/notices.md says what each means.
EVENT_KINDS: Mapping[str, EventKind] = {one.name: replace(one, over=_ENDED_BY.get(one.name, "")) for one in _TABLE}
