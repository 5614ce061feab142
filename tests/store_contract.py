"""What every store has to do, whatever engine it runs on: test modules of stores inherit this class."""

from abc import ABC, abstractmethod
from datetime import UTC, datetime, timedelta

import pytest

from historon.errors import StoreError
from historon.store import Entry, Outcome, Part, Recorded, State, Store, Version

START = datetime(2026, 1, 1, 2, 30, tzinfo=UTC)


def night(number: int) -> datetime:
    return START + timedelta(days=number)


def take(store: Store, at: int, *parts: Part, state: State = State.GOOD, source: str = "s") -> Recorded:
    """One round with one source."""
    outcome = Outcome.SUSPECT if state is State.SUSPECT else Outcome.CHANGED
    number = store.begin_round(night(at), "test")
    recorded = store.record(number, [Entry(source, outcome, night(at), timedelta(seconds=1), parts, state, 1, 2)])
    store.end_round(number, night(at))
    return recorded[0]


def content(store: Store, number: int, source: str = "s") -> dict[str, bytes]:
    return {part.name: store.read(part) for part in store.parts(source, number)}


class StoreContract(ABC):
    @pytest.fixture
    @abstractmethod
    def store(self) -> Store:
        """A new, empty store; opened again by `again`."""

    @abstractmethod
    def again(self, store: Store) -> Store:
        """The same store, closed and opened."""

    def test_a_version_comes_back_as_it_was(self, store: Store) -> None:
        parts = [Part("a/b.cfg", b"x\r\ny\0\xff"), Part("empty", b""), Part("ö", "ü\n".encode())]
        assert take(store, 0, *parts) == Recorded("s", Outcome.CHANGED, 1)
        store = self.again(store)
        assert content(store, 1) == {part.name: part.content for part in parts}
        assert store.versions("s") == [Version("s", 1, night(0), State.GOOD, 9, 1, 2)]

    def test_unchanged_content_makes_no_version_but_is_recorded(self, store: Store) -> None:
        take(store, 0, Part("a", b"1"))
        assert take(store, 5, Part("a", b"1")) == Recorded("s", Outcome.UNCHANGED, 1)
        state = store.state("s")
        assert (state.good, state.good_at, state.confirmed_at) == (1, night(0), night(5))
        assert [len(store.versions("s")), store.visits(2)[0].outcome] == [1, Outcome.UNCHANGED]

    def test_content_that_comes_back_is_a_version_again(self, store: Store) -> None:
        for at, text in enumerate([b"1", b"2", b"1"]):
            take(store, at, Part("a", text))
        assert [content(store, number)["a"] for number in (1, 2, 3)] == [b"1", b"2", b"1"]

    def test_a_part_that_goes_or_changes_its_name_makes_a_version(self, store: Store) -> None:
        take(store, 0, Part("a", b"1"), Part("b", b"2"))
        assert take(store, 1, Part("a", b"1")).number == 2
        assert take(store, 2, Part("c", b"1")).number == 3
        assert content(store, 3) == {"c": b"1"}

    def test_a_suspect_never_stands_for_the_last_good_version(self, store: Store) -> None:
        take(store, 0, Part("a", b"good"))
        assert take(store, 1, Part("a", b"ha"), state=State.SUSPECT) == Recorded("s", Outcome.SUSPECT, 2)
        assert take(store, 2, Part("a", b"ha"), state=State.SUSPECT).number == 2
        assert store.state("s").good == 1
        assert take(store, 3, Part("a", b"good")) == Recorded("s", Outcome.UNCHANGED, 1)
        assert content(store, 2) == {"a": b"ha"}

    def test_a_failure_leaves_versions_as_they_are(self, store: Store) -> None:
        take(store, 0, Part("a", b"1"))
        number = store.begin_round(night(1), "test")
        failed = Entry("s", Outcome.FAILED, night(1), timedelta(), note="no answer")
        assert store.record(number, [failed]) == [Recorded("s", Outcome.FAILED, None)]
        state = store.state("s")
        assert (state.good, state.confirmed_at, state.outcome, state.note) == (1, night(0), Outcome.FAILED, "no answer")

    def test_a_round_that_was_cut_short_still_tells_what_it_found(self, store: Store) -> None:
        number = store.begin_round(night(0), "test")
        store.record(number, [Entry("s", Outcome.FIRST, night(0), timedelta(seconds=2), [Part("a", b"1")])])
        found = self.again(store).rounds()[0]
        assert (found.ended, found.outcomes) == (None, {Outcome.FIRST: 1})

    def test_neither_the_last_good_nor_a_held_version_can_be_removed(self, store: Store) -> None:
        for at in range(3):
            take(store, at, Part("a", b"%d" % at))
        store.hold("s", 1, "because")
        first, second, third = store.versions("s")
        assert first.held == "because"
        for sacred in (first, third):
            with pytest.raises(StoreError, match="stays"):
                store.remove([second, sacred])
        assert len(store.versions("s")) == 3
        store.hold("s", 1, None)
        assert store.remove([first, second]) == 2
        assert content(store, 3) == {"a": b"2"}

    def test_numbers_are_never_given_twice(self, store: Store) -> None:
        for at in range(3):
            take(store, at, Part("a", b"%d" % at))
        store.remove(store.versions("s")[:2])
        assert take(store, 4, Part("a", b"new")).number == 4

    def test_a_source_that_was_never_met_is_empty(self, store: Store) -> None:
        assert (store.versions("no"), store.parts("no", 1), store.version("no", 1)) == ([], [], None)
        assert store.state("no").good is None
        assert (store.states(), store.visits(7), store.rounds()) == ({}, [], [])
