"""The words by which a channel says what it wants to hear."""

from typing import Self

from historon.estate.event_kinds import EVENT_KINDS, Severity
from historon.estate.table import nearest

__all__ = ["Subscription"]


_GROUPS = ("trouble", "changes", "always")


class Subscription(str):
    """What a channel wants to hear, as words: groups, severities and kinds of events; one text or a list of them."""

    __slots__ = ()

    @classmethod
    def parse(cls, written: object) -> Self:
        """Check each."""
        words = [str(one) for one in written] if isinstance(written, list | tuple) else [str(written)]
        known = [*_GROUPS, *(one.word for one in Severity), *EVENT_KINDS]
        for word in words:
            if word not in known:
                raise ValueError(f'"{word}" is not a kind of event ({nearest(word, known)})')
        return cls(" ".join(words))

    def means(self, kind: str) -> bool:
        """Whether an event of this kind is meant by one of the words."""
        return any(_means(word, kind) for word in self.split())


def _means(word: str, kind: str) -> bool:
    trouble = EVENT_KINDS[kind].is_trouble or EVENT_KINDS[kind].ends
    match word:
        case "always":
            return True
        case "trouble":
            return trouble
        case "changes":
            return trouble or kind in ("changed", "new", "pushed")
        case _ if word in EVENT_KINDS:
            return word == kind
        case _:
            return EVENT_KINDS[kind].severity <= Severity[word.upper()]
