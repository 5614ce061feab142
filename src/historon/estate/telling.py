"""What can be told, and the words by which a channel says what it wants to hear."""

from collections.abc import Mapping
from enum import IntEnum
from typing import Self

from historon.estate.renamed import renamed
from historon.estate.spelling import nearest

__all__ = ["KINDS", "OVER", "Severity", "Telling"]


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


# Every kind of event, the gravest first. docs/being-told.md says what each means.
KINDS: Mapping[str, Severity] = {
    "not-resumed": Severity.CRITICAL,
    "identity-changed": Severity.CRITICAL,
    "store-trouble": Severity.CRITICAL,
    "store-damaged": Severity.CRITICAL,
    "failing": Severity.ERROR,
    "still-failing": Severity.ERROR,
    "overdue": Severity.ERROR,
    "still-overdue": Severity.ERROR,
    "estate-refused": Severity.ERROR,
    "service-died": Severity.ERROR,
    "collecting-blocked": Severity.ERROR,
    "suspect": Severity.WARNING,
    "still-suspect": Severity.WARNING,
    "flapping": Severity.WARNING,
    "requirement-failed": Severity.WARNING,
    "disk-low": Severity.WARNING,
    "copy-behind": Severity.WARNING,
    "recovered": Severity.NOTICE,
    "resumed": Severity.NOTICE,
    "fresh-again": Severity.NOTICE,
    "requirement-met": Severity.NOTICE,
    "disk-well": Severity.NOTICE,
    "store-verified": Severity.NOTICE,
    "copy-well": Severity.NOTICE,
    "estate-accepted": Severity.NOTICE,
    "collecting-again": Severity.NOTICE,
    "changed": Severity.NOTICE,
    "first": Severity.INFO,
    "skipped": Severity.INFO,
    "service-started": Severity.INFO,
    "service-stopped": Severity.INFO,
    "round-ended": Severity.INFO,
    "all-well": Severity.INFO,
    "test": Severity.INFO,
}
OVER = frozenset(
    {
        "recovered",
        "resumed",
        "fresh-again",
        "requirement-met",
        "disk-well",
        "store-verified",
        "copy-well",
        "estate-accepted",
        "collecting-again",
    }
)  # whoever is told of a trouble is told of its end
_GROUPS = ("trouble", "changes", "always")


class Telling(str):
    """What a channel wants to hear, as words: groups, severities and kinds of events; one text or a list of them."""

    __slots__ = ()

    @classmethod
    def parse(cls, written: object) -> Self:
        """Check each."""
        words = [str(one) for one in written] if isinstance(written, list | tuple) else [str(written)]
        known = [*_GROUPS, *(one.word for one in Severity), *KINDS]
        for word in words:
            if word not in known:
                raise ValueError(f'"{word}" is not a kind of event ({renamed(word, known) or nearest(word, known)})')
        return cls(" ".join(words))

    def means(self, kind: str) -> bool:
        """Whether an event of this kind is meant by one of the words."""
        return any(_means(word, kind) for word in self.split())


def _means(word: str, kind: str) -> bool:
    severity = KINDS[kind]
    trouble = severity <= Severity.WARNING or kind in OVER
    match word:
        case "always":
            return True
        case "trouble":
            return trouble
        case "changes":
            return trouble or kind in ("changed", "first")
        case _ if word in KINDS:
            return word == kind
        case _:
            return severity <= Severity[word.upper()]
