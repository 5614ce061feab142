"""What is to be told, until it is: events that wait for their channel's time, and notices on their way and after.

Both are on disk before anybody is told, so that a restart, or a channel that is down, loses nothing.
"""

import sqlite3
from collections.abc import Callable, Iterable, Mapping, Sequence
from contextlib import AbstractContextManager
from dataclasses import dataclass
from datetime import datetime
from enum import StrEnum

from historon.store.instants import from_ms, to_ms

__all__ = ["Fate", "Notice", "Outbox", "Pending"]


class Fate(StrEnum):
    """What became of a notice: `refused` by every recipient for good, `expired` after it was tried for long enough."""

    QUEUED = "queued"
    SENT = "sent"
    REFUSED = "refused"
    EXPIRED = "expired"


_FATES = tuple(Fate)
_COLUMNS = "number, channel, at, fate, tries, next, subject, letter, answer, remaining"


@dataclass(frozen=True)
class Pending:
    """An event that waits to be told on a channel, at `due`; `round` is the round it came up in, until that ends."""

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
    fate: Fate
    tries: int
    next: datetime | None
    subject: str
    letter: bytes
    answer: str | None
    remaining: tuple[str, ...]


class Outbox:
    """The tables `pending` and `notice`. Every call is a transaction of its own."""

    def __init__(
        self, db: sqlite3.Connection, writing: Callable[[str], AbstractContextManager[None]],
        doing: Callable[[str], AbstractContextManager[None]], remember: Callable[[str, Mapping[str, str]], None],
    ) -> None:  # fmt: skip
        self._db = db
        self._writing = writing
        self._doing = doing
        self._remember = remember

    def post(self, pending: Iterable[Pending], memories: Mapping[str, Mapping[str, str]]) -> None:
        """Take events in, together with what is to be remembered of sources by topic: all of it, or nothing."""
        with self._writing("take in what is to be told"):
            self._db.executemany(
                "INSERT INTO pending (channel, due, round, event) VALUES (?, ?, ?, ?)",
                [(one.channel, to_ms(one.due), one.round, one.event) for one in pending],
            )
            for topic, texts in memories.items():
                self._remember(topic, texts)

    def end_round(self, round_number: int, due: Mapping[str, datetime]) -> None:
        """What came up in this round is due now that it has ended, channel by channel."""
        with self._writing("end a round's notices"):
            self._db.executemany(
                "UPDATE pending SET due = ?, round = NULL WHERE round = ? AND channel = ?",
                [(to_ms(at), round_number, channel) for channel, at in due.items()],
            )

    def pending(self) -> list[Pending]:
        """All events that wait, in the order in which they came up."""
        with self._doing("read what is to be told"):
            rows = self._db.execute("SELECT channel, due, event, round, id FROM pending ORDER BY id").fetchall()
        return [
            Pending(channel, from_ms(due), event, at_round, number) for channel, due, event, at_round, number in rows
        ]

    def write(self, channel: str, at: datetime, subject: str, letter: bytes, told: Sequence[int]) -> None:
        """Put a notice in the place of these events; nothing happens when another process did so before."""
        with self._writing("write a notice"):
            gone = sum(self._db.execute("DELETE FROM pending WHERE id = ?", (number,)).rowcount for number in told)
            if gone:
                self._db.execute(
                    "INSERT INTO notice (channel, at, fate, next, subject, letter) VALUES (?, ?, 0, ?, ?, ?)",
                    (channel, to_ms(at), to_ms(at), subject, letter),
                )

    def take(self, now: datetime, until: datetime) -> list[Notice]:
        """The notices that are to be sent now. They are ours until the given instant, and then anybody's again."""
        with self._writing("take notices"):
            rows = self._db.execute(
                f"UPDATE notice SET next = ?, tries = tries + 1 WHERE next <= ? RETURNING {_COLUMNS}",  # noqa: S608
                (to_ms(until), to_ms(now)),
            ).fetchall()
        return sorted((_notice(*row) for row in rows), key=lambda one: one.number)

    def settle(
        self, number: int, fate: Fate, answer: str, again: datetime | None = None, remaining: Sequence[str] = ()
    ) -> None:
        """Note what became of a notice; a waiting one is sent again at the given instant."""
        with self._writing("settle a notice"):
            self._db.execute(
                "UPDATE notice SET fate = ?, answer = ?, next = ?, remaining = ? WHERE number = ?",
                (_FATES.index(fate), answer, to_ms(again) if again else None, "\n".join(remaining) or None, number),
            )

    def hurry(self, now: datetime) -> None:
        """Make all that waits for its next try due now."""
        with self._writing("hurry notices"):
            self._db.execute("UPDATE notice SET next = ? WHERE next IS NOT NULL", (to_ms(now),))

    def set_right(self, now: datetime, next_try: datetime, due: datetime, channels: Mapping[str, datetime]) -> None:
        """After a clock was wrong: what would wait for longer than that waits no more.

        Notices wait for their next try until `next_try` at the latest; events that would wait until after `due` do so
        until the instant of their channel.
        """
        with self._writing("set right when notices are due"):
            self._db.execute("UPDATE notice SET next = ? WHERE next > ?", (to_ms(now), to_ms(next_try)))
            self._db.executemany(
                "UPDATE pending SET due = ? WHERE due > ? AND channel = ?",
                [(to_ms(at), to_ms(due), channel) for channel, at in channels.items()],
            )

    def waiting(self) -> list[Notice]:
        """The notices that are not settled, oldest first."""
        return self._select("WHERE next IS NOT NULL ORDER BY number")

    def last(self, limit: int) -> list[Notice]:
        """The last notices, newest first."""
        return self._select("ORDER BY number DESC LIMIT ?", limit)

    def notice(self, number: int) -> Notice | None:
        """One notice, or None when it is not there."""
        return next(iter(self._select("WHERE number = ?", number)), None)

    def last_sent(self) -> dict[str, datetime]:
        """When each channel was last told anything."""
        with self._doing("read notices"):
            rows = self._db.execute("SELECT channel, max(at) FROM notice WHERE fate = 1 GROUP BY channel").fetchall()
        return {channel: from_ms(at) for channel, at in rows}

    def tally(self) -> dict[str, int]:
        """How many events and notices wait on each channel that any waits on."""
        with self._doing("read what is to be told"):
            return dict(
                self._db.execute(
                    "SELECT channel, count(*) FROM (SELECT channel FROM pending UNION ALL "
                    "SELECT channel FROM notice WHERE next IS NOT NULL) GROUP BY channel"
                )
            )

    def next_due(self) -> datetime | None:
        """When there is something to do next; what waits behind a notice of its channel counts as that."""
        with self._doing("read notices"):
            (soonest,) = self._db.execute(
                "SELECT min(due) FROM (SELECT min(next) AS due FROM notice WHERE next IS NOT NULL UNION ALL "
                "SELECT min(due) FROM pending "
                "WHERE channel NOT IN (SELECT channel FROM notice WHERE next IS NOT NULL))"
            ).fetchone()
        return None if soonest is None else from_ms(soonest)

    def forget(self, before: datetime) -> None:
        """Let go of settled notices that were written before an instant, save the last one of each channel."""
        with self._writing("forget notices"):
            self._db.execute(
                "DELETE FROM notice WHERE next IS NULL AND at < ? "
                "AND number NOT IN (SELECT max(number) FROM notice GROUP BY channel)",
                (to_ms(before),),
            )

    def _select(self, which: str, *values: int) -> list[Notice]:
        with self._doing("read notices"):
            rows = self._db.execute(f"SELECT {_COLUMNS} FROM notice {which}", values).fetchall()  # noqa: S608
        return [_notice(*row) for row in rows]


def _notice(
    number: int, channel: str, at: int, fate: int, tries: int, again: int | None, subject: str, letter: bytes,
    answer: str | None, remaining: str | None,
) -> Notice:  # fmt: skip
    return Notice(
        number, channel, from_ms(at), _FATES[fate], tries, None if again is None else from_ms(again), subject, letter,
        answer, tuple(remaining.split("\n")) if remaining else (),
    )  # fmt: skip
