"""The record of rounds: rows while a round runs, one compressed document once it has ended."""

from collections import Counter
from collections.abc import Iterable, Sequence
from datetime import datetime, timedelta

import msgspec

from historon.store.encoding import pack, unpack
from historon.store.ledger.milliseconds import from_ms, perhaps_from_ms, to_ms
from historon.store.ledger.tables import OUTCOMES
from historon.store.ledger.transactions import Database
from historon.store.records import Entry, Outcome, Recorded, Round, Visit

__all__ = ["RoundTables"]

_BEYOND = 2**31 - 1  # no store has so many rounds
_LEVEL = 9


class RoundTables:
    """The tables `round` and `outcome`; every call runs inside the caller's transaction."""

    def __init__(self, db: Database) -> None:
        self._db = db

    def begin(self, at: datetime, trigger: str) -> int:
        """Open a round; returns its number."""
        made = self._db.execute(
            "INSERT INTO round (number, began, trigger) "
            "VALUES ((SELECT coalesce(max(number), 0) + 1 FROM round), ?, ?) RETURNING number",
            (to_ms(at), trigger),
        )
        return int(made.fetchone()[0])

    def add(self, number: int, visits: Iterable[tuple[int, Entry, Recorded]]) -> None:
        """Add outcomes, each with the ledger's number of its source."""
        self._db.executemany(
            "INSERT INTO outcome (round, source, outcome, at, took, number, note, steps) "
            "VALUES (?, ?, ?, ?, ?, ?, ?, ?) ON CONFLICT (round, source) DO UPDATE SET outcome = excluded.outcome, "
            "at = excluded.at, took = excluded.took, number = excluded.number, note = excluded.note, "
            "steps = excluded.steps",
            [
                (
                    number,
                    source,
                    OUTCOMES.index(told.outcome),
                    to_ms(entry.at),
                    int(entry.took.total_seconds() * 1000),
                    told.number,
                    entry.note,
                    _written(entry.steps),
                )
                for source, entry, told in visits
            ],
        )

    def end(self, number: int, at: datetime) -> None:
        """Close a round: its outcomes move into one record."""
        visits = self._open_visits(number)
        tally = msgspec.json.encode(Counter(visit.outcome for visit in visits)).decode()
        record = pack(msgspec.json.encode(visits), _LEVEL)
        self._db.execute(
            "UPDATE round SET ended = ?, tally = ?, record = ? WHERE number = ?", (to_ms(at), tally, record, number)
        )
        self._db.execute("DELETE FROM outcome WHERE round = ?", (number,))

    def has_ended(self, number: int) -> bool:
        """Whether it was closed."""
        row = self._db.execute("SELECT ended FROM round WHERE number = ?", (number,)).fetchone()
        return row is not None and row[0] is not None

    def last(self, limit: int, up_to: int | None = None) -> list[Round]:
        """The last rounds, newest first; with `up_to` none that came after this one."""
        rows = self._db.execute(
            "SELECT number, began, ended, trigger, tally FROM round WHERE number <= ? ORDER BY number DESC LIMIT ?",
            (_BEYOND if up_to is None else up_to, limit),
        ).fetchall()
        return [
            Round(number, from_ms(began), perhaps_from_ms(ended), trigger, self._tally(number, tally))
            for number, began, ended, trigger, tally in rows
        ]

    def _tally(self, number: int, tally: str | None) -> dict[Outcome, int]:
        if tally is not None:
            return msgspec.json.decode(tally, type=dict[Outcome, int])
        return dict(Counter(visit.outcome for visit in self._open_visits(number)))

    def visits(self, number: int) -> list[Visit]:
        """What a round found, source by source, by name."""
        row = self._db.execute("SELECT record FROM round WHERE number = ?", (number,)).fetchone()
        if row and row[0]:
            return msgspec.json.decode(unpack(row[0]), type=list[Visit])
        return self._open_visits(number)

    def _open_visits(self, number: int) -> list[Visit]:
        """What a round that has not ended found so far."""
        rows = self._db.execute(
            "SELECT name, outcome.outcome, at, took, number, outcome.note, steps FROM outcome "
            "JOIN source ON source.id = source WHERE round = ? ORDER BY name",
            (number,),
        )
        return [
            Visit(
                name, Outcome(OUTCOMES[outcome]), from_ms(at), timedelta(milliseconds=took), version, note, _read(steps)
            )
            for name, outcome, at, took, version, note, steps in rows
        ]


def _written(steps: Sequence[tuple[str, timedelta]]) -> bytes | None:
    """Steps as JSON, to the millisecond."""
    told = [(place, took // timedelta(milliseconds=1)) for place, took in steps]
    return msgspec.json.encode(told) if told else None


def _read(steps: bytes | None) -> tuple[tuple[str, timedelta], ...]:
    found = msgspec.json.decode(steps, type=list[tuple[str, int]]) if steps else []
    return tuple((place, timedelta(milliseconds=took)) for place, took in found)
