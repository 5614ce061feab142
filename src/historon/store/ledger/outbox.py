"""What is to be reported, until it is, in the ledger's tables."""

from collections.abc import Mapping, Sequence
from datetime import datetime

from historon.store.ledger.memory import MemoryTable
from historon.store.ledger.milliseconds import from_ms, perhaps_from_ms, to_ms
from historon.store.ledger.transactions import Transactions, writing
from historon.store.outbox import Notice, NoticeState, Outbox, Pending

__all__ = ["LedgerOutbox"]

_FATES = tuple(NoticeState)
_COLUMNS = "number, channel, at, fate, tries, next, subject, letter, answer, remaining"


class LedgerOutbox(Outbox):
    """The tables `pending` and `notice`."""

    def __init__(self, transactions: Transactions, memory: MemoryTable) -> None:
        self.transactions = transactions
        self._db = transactions.db
        self._memory = memory

    @writing("store the events to send")
    def post(self, pending: Sequence[Pending], memories: Mapping[str, Mapping[str, str]]) -> None:
        self._db.executemany(
            "INSERT INTO pending (id, channel, due, round, event) "
            "VALUES ((SELECT coalesce(max(id), 0) + 1 FROM pending), ?, ?, ?, ?)",
            [(one.channel, to_ms(one.due), one.round, one.event) for one in pending],
        )
        for topic, texts in memories.items():
            self._memory.remember(topic, texts)

    @writing("end a round's notices")
    def end_round(self, round_number: int, due: Mapping[str, datetime]) -> None:
        self._db.executemany(
            "UPDATE pending SET due = ?, round = NULL WHERE round = ? AND channel = ?",
            [(to_ms(at), round_number, channel) for channel, at in due.items()],
        )

    def pending(self) -> list[Pending]:
        with self.transactions.doing("read the events to send"):
            rows = self._db.execute("SELECT channel, due, event, round, id FROM pending ORDER BY id").fetchall()
            return [
                Pending(channel, from_ms(due), event, at_round, number)
                for channel, due, event, at_round, number in rows
            ]

    @writing("write a notice")
    def write(self, channel: str, at: datetime, subject: str, letter: bytes, told: Sequence[int]) -> None:
        gone = sum(self._db.execute("DELETE FROM pending WHERE id = ?", (number,)).rowcount for number in told)
        if gone:
            self._db.execute(
                "INSERT INTO notice (number, channel, at, fate, next, subject, letter) "
                "VALUES ((SELECT coalesce(max(number), 0) + 1 FROM notice), ?, ?, 0, ?, ?, ?)",
                (channel, to_ms(at), to_ms(at), subject, letter),
            )

    @writing("take notices")
    def take(self, now: datetime, until: datetime) -> list[Notice]:
        rows = self._db.execute(
            f"UPDATE notice SET next = ?, tries = tries + 1 WHERE next <= ? RETURNING {_COLUMNS}",  # noqa: S608
            (to_ms(until), to_ms(now)),
        ).fetchall()
        return sorted((_notice(*row) for row in rows), key=lambda one: one.number)

    @writing("record a notice's result")
    def settle(
        self, number: int, fate: NoticeState, answer: str, again: datetime | None = None, remaining: Sequence[str] = ()
    ) -> None:
        self._db.execute(
            "UPDATE notice SET fate = ?, answer = ?, next = ?, remaining = ? WHERE number = ?",
            (_FATES.index(fate), answer, to_ms(again) if again else None, "\n".join(remaining) or None, number),
        )

    @writing("send notices sooner")
    def hurry(self, now: datetime) -> None:
        self._db.execute("UPDATE notice SET next = ? WHERE next IS NOT NULL", (to_ms(now),))

    @writing("correct when notices are due")
    def set_right(self, now: datetime, next_try: datetime, due: datetime, channels: Mapping[str, datetime]) -> None:
        self._db.execute("UPDATE notice SET next = ? WHERE next > ?", (to_ms(now), to_ms(next_try)))
        self._db.executemany(
            "UPDATE pending SET due = ? WHERE due > ? AND channel = ?",
            [(to_ms(at), to_ms(due), channel) for channel, at in channels.items()],
        )

    def waiting(self) -> list[Notice]:
        return self._select("WHERE next IS NOT NULL ORDER BY number")

    def last(self, limit: int) -> list[Notice]:
        return self._select("ORDER BY number DESC LIMIT ?", limit)

    def notice(self, number: int) -> Notice | None:
        return next(iter(self._select("WHERE number = ?", number)), None)

    def last_sent(self) -> dict[str, datetime]:
        with self.transactions.doing("read notices"):
            rows = self._db.execute("SELECT channel, max(at) FROM notice WHERE fate = 1 GROUP BY channel").fetchall()
            return {channel: from_ms(at) for channel, at in rows}

    def tally(self) -> dict[str, int]:
        with self.transactions.doing("read the events to send"):
            return dict(
                self._db.execute(
                    "SELECT channel, count(*) FROM (SELECT channel FROM pending UNION ALL "
                    "SELECT channel FROM notice WHERE next IS NOT NULL) AS waiting GROUP BY channel"
                )
            )

    def next_due(self) -> datetime | None:
        with self.transactions.doing("read notices"):
            (soonest,) = self._db.execute(
                "SELECT min(due) FROM (SELECT min(next) AS due FROM notice WHERE next IS NOT NULL UNION ALL "
                "SELECT min(due) FROM pending "
                "WHERE channel NOT IN (SELECT channel FROM notice WHERE next IS NOT NULL)) AS first"
            ).fetchone()
            return perhaps_from_ms(soonest)

    @writing("remove notices")
    def forget(self, before: datetime) -> None:
        self._db.execute(
            "DELETE FROM notice WHERE next IS NULL AND at < ? "
            "AND number NOT IN (SELECT max(number) FROM notice GROUP BY channel)",
            (to_ms(before),),
        )

    def _select(self, which: str, *values: int) -> list[Notice]:
        with self.transactions.doing("read notices"):
            rows = self._db.execute(f"SELECT {_COLUMNS} FROM notice {which}", values).fetchall()  # noqa: S608
            return [_notice(*row) for row in rows]


def _notice(
    number: int,
    channel: str,
    at: int,
    fate: int,
    tries: int,
    again: int | None,
    subject: str,
    letter: bytes,
    answer: str | None,
    remaining: str | None,
) -> Notice:
    return Notice(
        number,
        channel,
        from_ms(at),
        _FATES[fate],
        tries,
        perhaps_from_ms(again),
        subject,
        letter,
        answer,
        tuple(remaining.split("\n")) if remaining else (),
    )
