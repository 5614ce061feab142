"""Which source is due when, which is in a round now, and what of it is on record."""

from collections.abc import Iterable, Mapping, Sequence
from datetime import datetime, timedelta

from historon.estate import Estate, Source
from historon.timetable.due import due_instants

__all__ = ["Schedule"]

_MISSED = timedelta(hours=1)  # late, from which on a start reports it


class Schedule:
    """The sources of an estate that have a timetable.

    `kept` is until when each was dealt with, `next` when it is due, `busy` those in a round, and `due` since when
    sources wait for their turn in one. What is `unwritten` is not in the store yet.
    """

    def __init__(self) -> None:
        self.kept: dict[str, datetime] = {}
        self.next: dict[str, datetime] = {}
        self.due: dict[str, datetime] = {}
        self.busy: set[str] = set()
        self.unwritten: dict[str, str] = {}
        self._being_written: dict[str, str] = {}
        self._estate: Estate

    def begin(self, estate: Estate, recorded: Mapping[str, str], now: datetime) -> int:
        """Take up what is on record; a source that was never on schedule begins to be now. Returns their number."""
        self._estate = estate
        written = {**recorded, **self._being_written, **self.unwritten}
        known = {name: datetime.fromisoformat(text) for name, text in written.items()}
        scheduled = [source for source in estate.sources.values() if source.timetables]
        self.kept = {source.name: min(known.get(source.name, now), now) for source in scheduled}
        self.unwritten |= {name: at.isoformat() for name, at in self.kept.items() if name not in known}
        planned, self.next = self.next, {}
        for source in scheduled:
            self._plan(source)
            # By a timetable that has just been changed nothing was missed before.
            coming = self.next.get(source.name)
            if coming is not None and coming <= now < planned.get(source.name, now):
                self.kept[source.name] = now
                self.unwritten[source.name] = now.isoformat()
                self._plan(source)
        return len(scheduled)

    def _plan(self, source: Source) -> None:
        """Note when a source is due next; one that is frozen for good never is."""
        coming = next(due_instants(self._estate, source, self.kept[source.name]), None)
        if coming:
            self.next[source.name] = coming[0]

    @property
    def soonest(self) -> datetime | None:
        """When the next source is due."""
        return min(self.next.values(), default=None)

    def wait(self, now: datetime, at_most: timedelta) -> timedelta:
        """How long nothing becomes due."""
        return min([at_most, *(at - now for name, at in self.next.items() if name not in self.busy)])

    def missed(self, now: datetime) -> tuple[int, datetime] | None:
        """How many sources became due while no service ran, and until when the last of them was dealt with."""
        due = [self.kept[name] for name, at in self.next.items() if at < now - _MISSED]
        return (len(due), max(due)) if due else None

    def take_due(self, now: datetime, *, spread: bool) -> dict[str, timedelta]:
        """The sources that are due, and with `spread` those that come later in the same spread, each with its delay."""
        free = [self._estate.sources[name] for name in self.next if name not in self.busy]
        due = [source for source in free if self.next[source.name] <= now]
        members = [*due, *self._spread(free, due)] if due and spread else due
        delays = {source.name: max(timedelta(), self.next[source.name] - now) for source in members}
        for name in delays:
            self.busy.add(name)
            self.due[name] = self.next.pop(name)
        return delays

    def _spread(self, free: Sequence[Source], due: Sequence[Source]) -> list[Source]:
        """Sources that share a timetable with one that is due, and come later in the same spread."""
        ends: dict[str, datetime] = {}
        for source in due:
            for name in source.timetables:
                end = self.next[source.name] + self._estate.timetables[name].spread
                ends[name] = max(ends.get(name, end), end)
        begun = {source.name for source in due}
        return [source for source in free if source.name not in begun and self._is_due_by(source, ends)]

    def _is_due_by(self, source: Source, ends: Mapping[str, datetime]) -> bool:
        """Whether a source comes within the spread of one of its timetables, whose ends these are."""
        due = self.next[source.name]
        return any(due <= ends[name] for name in source.timetables if name in ends)

    def begun(self, name: str, now: datetime) -> timedelta | None:
        """How late a source is that begins now; None for one that did not wait."""
        due = self.due.pop(name, None)
        return None if due is None else max(timedelta(), now - due)

    def deal_with(self, name: str, now: datetime) -> None:
        """A source was visited: plan its next visit."""
        self.busy.discard(name)
        self.due.pop(name, None)
        self.kept[name] = now
        source = self._estate.sources.get(name)
        if source and source.timetables:
            self._plan(source)

    def put_off(self, names: Iterable[str], until: datetime) -> None:
        """Sources that were not visited are due again then."""
        for name in names:
            self.busy.discard(name)
            self.due.pop(name, None)
            source = self._estate.sources.get(name)
            if source and source.timetables:
                self.next[name] = until

    def clear(self) -> None:
        """Forget everything: another service keeps the timetables."""
        for slot in (self.busy, self.due, self.next, self.unwritten, self._being_written):
            slot.clear()

    # What is new on schedule is written in a thread: until that has ended it is in one dictionary or the other.

    def being_written(self) -> dict[str, str]:
        """What is to be written now; `was_written` or `not_written` follows."""
        self._being_written, self.unwritten = self.unwritten, {}
        return self._being_written

    def was_written(self) -> None:
        """It is on the disk."""
        self._being_written = {}

    def not_written(self) -> None:
        """What is not on the disk is to be written again."""
        self.unwritten, self._being_written = {**self._being_written, **self.unwritten}, {}
