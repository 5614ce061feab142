"""What is to be reported, until it is: events that wait for their channel's time, and notices on their way and after.

Both are on disk before anybody is notified, so that a restart, or a channel that is down, loses nothing.
"""

from abc import ABC, abstractmethod
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime
from enum import StrEnum

__all__ = ["Notice", "NoticeState", "Outbox", "Pending"]


class NoticeState(StrEnum):
    """What became of a notice: `refused` by every recipient for good, `expired` after it was tried for long enough."""

    QUEUED = "queued"
    SENT = "sent"
    REFUSED = "refused"
    EXPIRED = "expired"


@dataclass(frozen=True)
class Pending:
    """An event that waits to be reported on a channel, at `due`; `round` is its round, until that ends."""

    channel: str
    due: datetime
    event: bytes
    round: int | None = None
    number: int = 0


@dataclass(frozen=True)
class Notice:
    """One notice on one channel, written at `at`.

    `tries` counts how often it was sent, `next` is when it is sent again (None for never), `answer` what the other side
    said the last time, and `remaining` the recipients who have not got it; empty for all of the channel's.
    """

    number: int
    channel: str
    at: datetime
    fate: NoticeState
    tries: int
    next: datetime | None
    subject: str
    letter: bytes
    answer: str | None
    remaining: tuple[str, ...]


class Outbox(ABC):
    """What is to be reported, and what was. Every call is a transaction of its own."""

    @abstractmethod
    def post(self, pending: Sequence[Pending], memories: Mapping[str, Mapping[str, str]]) -> None:
        """Take events in, together with what is to be remembered of sources by topic: all of it, or nothing."""

    @abstractmethod
    def end_round(self, round_number: int, due: Mapping[str, datetime]) -> None:
        """What came up in this round is due now that it has ended, channel by channel."""

    @abstractmethod
    def pending(self) -> list[Pending]:
        """All events that wait, in the order in which they came up."""

    @abstractmethod
    def write(self, channel: str, at: datetime, subject: str, letter: bytes, told: Sequence[int]) -> None:
        """Put a notice in the place of these events; nothing happens when another process did so before."""

    @abstractmethod
    def take(self, now: datetime, until: datetime) -> list[Notice]:
        """The notices that are to be sent now. They are ours until the given instant, and then anybody's again."""

    @abstractmethod
    def settle(
        self, number: int, fate: NoticeState, answer: str, again: datetime | None = None, remaining: Sequence[str] = ()
    ) -> None:
        """Note what became of a notice; a waiting one is sent again at the given instant."""

    @abstractmethod
    def hurry(self, now: datetime) -> None:
        """Make all that waits for its next try due now."""

    @abstractmethod
    def set_right(self, now: datetime, next_try: datetime, due: datetime, channels: Mapping[str, datetime]) -> None:
        """After a clock was wrong: what would wait for longer than that waits no more.

        Notices wait for their next try until `next_try` at the latest; events that would wait until after `due` do so
        until the instant of their channel.
        """

    @abstractmethod
    def waiting(self) -> list[Notice]:
        """The notices that are not settled, oldest first."""

    @abstractmethod
    def last(self, limit: int) -> list[Notice]:
        """The last notices, newest first."""

    @abstractmethod
    def notice(self, number: int) -> Notice | None:
        """One notice, or None when it is not there."""

    @abstractmethod
    def last_sent(self) -> dict[str, datetime]:
        """When each channel was last notified."""

    @abstractmethod
    def tally(self) -> dict[str, int]:
        """How many events and notices wait on each channel that any waits on."""

    @abstractmethod
    def next_due(self) -> datetime | None:
        """When there is something to do next; what waits behind a notice of its channel counts as that."""

    @abstractmethod
    def forget(self, before: datetime) -> None:
        """Let go of settled notices that were written before an instant, save the last one of each channel."""
