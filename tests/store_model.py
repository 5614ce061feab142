"""A store as simple as can be, in memory, and a machine that does the same to it and to a real one."""

from dataclasses import dataclass, field, replace
from datetime import UTC, datetime, timedelta

from hypothesis import strategies as st
from hypothesis.stateful import RuleBasedStateMachine, invariant, precondition, rule

from historon.base.errors import StoreError
from historon.store import Entry, Outcome, Part, Removal, State, Store, Version

__all__ = ["Machine"]

_START = datetime(2026, 1, 1, tzinfo=UTC)
BY_HAND = Removal(_START)
_SOURCES = st.sampled_from(["a", "b"])
_CONTENTS = st.dictionaries(
    st.sampled_from(["x", "y/z"]),
    st.sampled_from([b"", b"1\n", b"1\n2\n", b"\0\xff" * 900, b"line\n" * 400]),
    min_size=1,
)


@dataclass
class _Known:
    """What the model knows of a source."""

    versions: dict[int, tuple[Version, dict[str, bytes]]] = field(default_factory=dict)
    last: int = 0
    good: int | None = None
    confirmed_at: datetime | None = None
    outcome: Outcome | None = None


class Machine(RuleBasedStateMachine):
    """Random calls; after each of them, store and model tell the same."""

    store: Store  # set by who makes one

    def __init__(self) -> None:
        super().__init__()
        self.known: dict[str, _Known] = {}
        self.memory: dict[tuple[str, str], str] = {}
        self.rounds: list[tuple[int, dict[str, Outcome]]] = []
        self.now = _START
        self.changes = self.store.change_number()

    def _round(self, entry: Entry) -> None:
        self.now += timedelta(hours=1)
        number = self.store.begin_round(self.now, "machine")
        (told,) = self.store.record(number, [entry])
        self.store.end_round(number, self.now)
        expected = self._recorded(entry)
        assert (told.outcome, told.number) == expected
        self.rounds.insert(0, (number, {entry.source: told.outcome}))

    def _recorded(self, entry: Entry) -> tuple[Outcome, int | None]:
        known = self.known.setdefault(entry.source, _Known())
        if not entry.parts:
            known.outcome = entry.outcome
            return entry.outcome, None
        contents = {part.name: part.content for part in entry.parts if isinstance(part, Part)}
        suspect = entry.state is State.SUSPECT
        last = known.versions.get(known.last)
        held_against = (known.last if last and not last[0].good else None) if suspect else known.good
        if held_against is not None and known.versions[held_against][1] == contents:
            number, outcome = held_against, entry.outcome if suspect else Outcome.UNCHANGED
        else:
            number, outcome = known.last + 1, entry.outcome
            size = sum(map(len, contents.values()))
            made = Version(entry.source, number, entry.at, entry.state, size, entry.added, entry.removed)
            known.versions[number] = (made, contents)
            known.last = number
        known.outcome = outcome
        if outcome.good:
            known.good, known.confirmed_at = number, entry.at
        return outcome, number

    @rule(source=_SOURCES, contents=_CONTENTS, suspect=st.booleans())
    def collected(self, source: str, contents: dict[str, bytes], suspect: bool) -> None:
        state, outcome = (State.SUSPECT, Outcome.SUSPECT) if suspect else (State.GOOD, Outcome.CHANGED)
        parts = [Part(name, content) for name, content in contents.items()]
        self._round(Entry(source, outcome, self.now + timedelta(hours=1), timedelta(seconds=1), parts, state, 1, 2))

    @rule(source=_SOURCES)
    def failed(self, source: str) -> None:
        self._round(Entry(source, Outcome.FAILED, self.now + timedelta(hours=1), timedelta(), note="no answer"))

    @precondition(lambda self: any(one.versions for one in self.known.values()))
    @rule(data=st.data())
    def removed(self, data: st.DataObject) -> None:
        _source, known = self._any(data)
        numbers = data.draw(st.sets(st.sampled_from(sorted(known.versions)), min_size=1))
        going = [known.versions[number][0] for number in sorted(numbers)]
        if any(one.number == known.good or one.held is not None for one in going):
            try:
                self.store.remove(going, BY_HAND)
            except StoreError:
                return
            raise AssertionError("the last good version, or a held one, was removed")
        assert self.store.remove(going, BY_HAND) == len(going)
        for one in going:
            del known.versions[one.number]
        self.store.reclaim()

    @precondition(lambda self: any(one.versions for one in self.known.values()))
    @rule(data=st.data(), reason=st.sampled_from(["because", None]))
    def held(self, data: st.DataObject, reason: str | None) -> None:
        source, known = self._any(data)
        number = data.draw(st.sampled_from(sorted(known.versions)))
        self.store.hold(source, number, reason)
        version, contents = known.versions[number]
        known.versions[number] = (replace(version, held=reason), contents)

    @precondition(lambda self: any(not v.good for one in self.known.values() for v, _ in one.versions.values()))
    @rule(data=st.data())
    def vouched(self, data: st.DataObject) -> None:
        suspects = [v for one in self.known.values() for v, _ in one.versions.values() if not v.good]
        version = data.draw(st.sampled_from(suspects))
        self.store.vouch(version, State.GOOD, 3, 4, b"", None)
        known = self.known[version.source]
        contents = known.versions[version.number][1]
        known.versions[version.number] = (replace(version, state=State.GOOD, added=3, removed=4), contents)
        if version.number > (known.good or 0):
            known.good = version.number
            known.confirmed_at = max(known.confirmed_at or version.at, version.at)
        if known.last == version.number and known.outcome is Outcome.SUSPECT:
            known.outcome = Outcome.CHANGED

    @precondition(lambda self: any(v.good for one in self.known.values() for v, _ in one.versions.values()))
    @rule(data=st.data())
    def doubted(self, data: st.DataObject) -> None:
        good = [v for one in self.known.values() for v, _ in one.versions.values() if v.good]
        version = data.draw(st.sampled_from(good))
        self.store.doubt(version, "why")
        known = self.known[version.source]
        contents = known.versions[version.number][1]
        known.versions[version.number] = (replace(version, state=State.SUSPECT, note="why"), contents)
        if known.good == version.number:
            left = [one for one, _ in known.versions.values() if one.good]
            known.good = left[-1].number if left else None
            known.confirmed_at = left[-1].at if left else None
        if known.last == version.number and known.outcome in (Outcome.NEW, Outcome.CHANGED, Outcome.UNCHANGED):
            known.outcome = Outcome.SUSPECT

    @rule(source=_SOURCES, topic=st.sampled_from(["t", "u"]), text=st.sampled_from(["", "one", "ü"]))
    def remembered(self, source: str, topic: str, text: str) -> None:
        self.store.remember(source, topic, text)
        self.memory.pop((source, topic), None)
        if text:
            self.memory[source, topic] = text

    def _any(self, data: st.DataObject) -> tuple[str, _Known]:
        source = data.draw(st.sampled_from(sorted(name for name, one in self.known.items() if one.versions)))
        return source, self.known[source]

    @invariant()
    def same(self) -> None:
        for name, known in self.known.items():
            state = self.store.state(name)
            assert (state.good, state.confirmed_at, state.outcome) == (known.good, known.confirmed_at, known.outcome)
            assert self.store.versions(name) == [version for version, _ in known.versions.values()]
            for number, (_, contents) in known.versions.items():
                found = {part.name: self.store.read(part) for part in self.store.parts(name, number)}
                assert found == contents, (name, number)
        for topic in ("t", "u"):
            told = {source: text for (source, about), text in self.memory.items() if about == topic}
            assert self.store.recall_all(topic) == told
        assert [(one.number, one.outcomes) for one in self.store.rounds(999)] == [
            (number, dict.fromkeys(outcomes.values(), 1)) for number, outcomes in self.rounds
        ]
        assert self.store.check() == []
        assert self.store.change_number() >= self.changes
        self.changes = self.store.change_number()

    def teardown(self) -> None:
        self.store.close()
