"""What every store has to do, whatever engine it runs on: test modules of stores inherit this class."""

import ast
import hashlib
import tempfile
from abc import ABC, abstractmethod
from datetime import UTC, datetime, timedelta
from pathlib import Path

import pytest
from hypothesis import settings
from hypothesis.stateful import run_state_machine_as_test

from historon.base.errors import StoreError
from historon.base.processes import this_process
from historon.store import (
    ESTATE,
    LEDGER,
    BareLedger,
    Changed,
    Entry,
    FolderStore,
    NoticeState,
    Outbox,
    Outcome,
    Part,
    Pending,
    Recorded,
    Removal,
    Removed,
    State,
    Store,
    Version,
)
from tests.store_model import BY_HAND, Machine

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


def untested_methods() -> set[str]:
    """The methods of a store, and of its outbox, that this module calls nowhere."""
    called = {node.attr for node in ast.walk(ast.parse(Path(__file__).read_text())) if isinstance(node, ast.Attribute)}
    return {*Store.__abstractmethods__, "another", *Outbox.__abstractmethods__} - called


class StoreContract(ABC):
    examples = 40  # of sequences of calls

    @pytest.fixture
    @abstractmethod
    def store(self) -> Store:
        """A new, empty store; opened again by `again`."""

    @abstractmethod
    def again(self, store: Store) -> Store:
        """The same store, closed and opened."""

    @abstractmethod
    def new(self) -> Store:
        """One more new, empty store."""

    def test_any_sequence_of_calls_is_as_a_simple_model_says(self, store: Store) -> None:
        contract = self

        class OnThisEngine(Machine):
            def __init__(self) -> None:
                self.store = contract.new()
                super().__init__()

        run_state_machine_as_test(
            OnThisEngine, settings=settings(max_examples=self.examples, stateful_step_count=25, deadline=None)
        )

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
        store.record(number, [Entry("s", Outcome.NEW, night(0), timedelta(seconds=2), [Part("a", b"1")])])
        found = self.again(store).rounds()[0]
        assert (found.ended, found.outcomes) == (None, {Outcome.NEW: 1})

    def test_neither_the_last_good_nor_a_held_version_can_be_removed(self, store: Store) -> None:
        for at in range(3):
            take(store, at, Part("a", b"%d" % at))
        store.hold("s", 1, "because")
        assert [(one.source, one.number) for one in store.held()] == [("s", 1)]
        first, second, third = store.versions("s")
        assert first.held == "because"
        for sacred in (first, third):
            with pytest.raises(StoreError, match="stays"):
                store.remove([second, sacred], BY_HAND)
        assert len(store.versions("s")) == 3
        store.hold("s", 1, None)
        assert store.remove([first, second], BY_HAND) == 2
        assert content(store, 3) == {"a": b"2"}

    def test_what_was_removed_is_on_record(self, store: Store) -> None:
        for at in range(4):
            take(store, at, Part("a", b"%d" % at), Part("b", b"same"))
            take(store, at, Part("a", b"%d" % at), Part("b", b"same"), source="r")
        first, second, third, _ = store.versions("s")
        store.remove([first], BY_HAND)
        store.remove([second, *store.versions("r")[:1]], Removal(night(9), {"s": "retention short"}, 7))
        store = self.again(store)
        by_hand, by_rule = store.removed("s")
        assert by_hand == Removed("s", 1, night(0), by_hand.sha256, None, BY_HAND.gone, None)
        assert by_rule == Removed("s", 2, night(1), by_rule.sha256, "retention short", night(9), 7)
        digests = {name: hashlib.sha256(content_).hexdigest() for name, content_ in (("a", b"1"), ("b", b"same"))}
        listed = sorted(f"{digest}  {name}\n" for name, digest in digests.items())
        assert by_rule.sha256 == hashlib.sha256("".join(listed).encode()).digest()
        assert [(one.source, one.number) for one in store.removed_after(7)] == [("r", 1), ("s", 2)]
        assert (store.removed("no"), store.removed_after(99)) == ([], [])
        assert third in store.versions("s")

    def test_numbers_are_never_given_twice(self, store: Store) -> None:
        for at in range(3):
            take(store, at, Part("a", b"%d" % at))
        store.remove(store.versions("s")[:2], BY_HAND)
        assert take(store, 4, Part("a", b"new")).number == 4

    def test_a_number_that_is_taken_elsewhere_is_not_given(self, store: Store) -> None:
        take(store, 0, Part("a", b"1"))
        store.raise_numbers({"s": 7, "other": 3})
        store.raise_numbers({"s": 2})
        assert store.last_numbers() == {"s": 7, "other": 3}
        assert take(store, 1, Part("a", b"2")).number == 8
        assert take(store, 1, Part("a", b"2"), source="other").number == 4

    def test_a_renamed_source_is_all_that_it_was(self, store: Store) -> None:
        for number in range(4):
            take(store, number, Part("a", b"%d" % number))
        (first,) = (one for one in store.versions("s") if one.number == 1)
        store.remove([first], Removal(night(5), {"s": "retention r"}))
        store.remember("s", "topic", "text")
        take(store, 4, Part("a", b"other"), source="taken")
        changes = store.change_number()
        with pytest.raises(StoreError, match="taken already has versions"):
            store.rename("s", "taken", night(6))
        assert store.rename("s", "t", night(6)) == 3
        assert store.change_number() > changes
        assert [one.number for one in store.versions("t")] == [2, 3, 4]
        assert content(store, 4, "t") == {"a": b"3"}
        assert (store.recall("t", "topic"), store.recall("s", "topic")) == ("text", None)
        assert store.versions("s") == []
        assert store.last_numbers()["s"] == 4
        gone = {one.number: one for one in store.removed("s")}
        assert [(number, one.rule) for number, one in sorted(gone.items())] == [
            (1, "retention r"),
            *((number, "renamed to t") for number in (2, 3, 4)),
        ]
        assert gone[4].sha256 == store.digests("t")[4]
        assert take(store, 7, Part("a", b"new"), source="t").number == 5
        assert store.check() == []

    def test_a_store_with_a_new_key_is_another_one(self, store: Store) -> None:
        key = store.fingerprint_key()
        store.renew_key()
        assert len(store.fingerprint_key()) == len(key)
        assert self.again(store).fingerprint_key() != key

    def test_a_source_that_was_never_met_is_empty(self, store: Store) -> None:
        assert (store.versions("no"), store.parts("no", 1), store.version("no", 1)) == ([], [], None)
        assert store.state("no").good is None
        assert (store.states(), store.visits(7), store.rounds()) == ({}, [], [])

    def test_large_parts_come_back_a_piece_at_a_time(self, store: Store) -> None:
        content_ = b"".join(b"block %d of a large export\n" % n for n in range(100_000))
        with tempfile.TemporaryFile() as spool:
            spool.write(content_)
            part = Part("large", spool=spool, spooled=(len(content_), hashlib.sha256(content_).digest()))
            take(store, 0, part)
        (stored,) = self.again(store).parts("s", 1)
        assert (stored.size, stored.sha256) == (len(content_), hashlib.sha256(content_).digest())
        store = self.again(store)
        pieces = list(store.pieces(stored))
        assert len(pieces) > 1
        assert b"".join(pieces) == content_ == store.read(stored)

    def test_a_suspect_version_can_be_vouched_for(self, store: Store) -> None:
        take(store, 0, Part("a", b"1"))
        take(store, 1, Part("a", b"2"), state=State.SUSPECT)
        before = store.change_number()
        version = store.version("s", 2)
        assert version is not None
        store.vouch(version, State.GOOD, 5, 6, b"f", None)
        state = store.state("s")
        assert (state.good, state.good_at, state.confirmed_at, state.outcome) == (2, night(1), night(1), "changed")
        assert store.versions("s")[1] == Version("s", 2, night(1), State.GOOD, 1, 5, 6)
        assert store.change_number() > before

    def test_what_is_measured_by_begins_with_the_last_one_vouched_for(self, store: Store) -> None:
        for at, state in enumerate((State.GOOD, State.NOISE, State.SUSPECT, State.GOOD)):
            take(store, at, Part("a", b"%d" % at), state=state)
        assert [one.number for one in store.last_good("s", 9)] == [4, 2, 1]
        assert [one.number for one in store.last_good("s", 2)] == [4, 2]
        version = store.version("s", 3)
        assert version is not None
        store.vouch(version, State.GOOD, 5, 6, b"f", None)
        assert [one.number for one in store.last_good("s", 9)] == [4, 3]
        assert [(one.source, one.number) for one in store.vouched()] == [("s", 3)]
        store.doubt(store.vouched()[0], "the vouch was withdrawn")
        assert store.vouched() == []
        assert [one.number for one in store.last_good("s", 9)] == [4, 2, 1]
        assert store.last_good("elsewhere", 9) == []

    def test_a_good_version_can_be_doubted_and_the_one_before_it_is_the_last_good_one(self, store: Store) -> None:
        take(store, 0, Part("a", b"1"))
        take(store, 1, Part("a", b"2"))
        take(store, 2, Part("a", b"2"))
        before = store.change_number()
        version = store.versions("s")[1]
        store.doubt(version, "its proof failed")
        state = store.state("s")
        assert (state.good, state.good_at, state.confirmed_at, state.outcome) == (1, night(0), night(0), "suspect")
        assert (store.versions("s")[1].state, store.versions("s")[1].note) == (State.SUSPECT, "its proof failed")
        assert content(store, 2) == {"a": b"2"}
        assert store.change_number() > before
        store.doubt(store.versions("s")[0], "nor is this one")
        assert store.state("s").good is None
        store = self.again(store)
        take(store, 3, Part("a", b"3"))
        assert store.state("s").good == 3

    def test_what_changed_is_told_of_all_sources_in_order(self, store: Store) -> None:
        number = store.begin_round(night(0), "test")
        entries = [
            Entry(name, Outcome.CHANGED, night(at), timedelta(), [Part("a", b"1")], added=at, families=families)
            for name, at, families in (("b", 2, b"two"), ("a", 1, b"one"), ("c", 3, b""), ("d", 9, b"late"))
        ]
        store.record(number, entries)
        assert store.changed(night(0), night(5)) == [
            Changed("a", 1, night(1), 1, 0, b"one"),
            Changed("b", 1, night(2), 2, 0, b"two"),
        ]

    def test_signatures_are_the_sum_of_what_was_recorded(self, store: Store) -> None:
        numbers = [7, 700, 32_767]
        for at, one in enumerate(numbers):
            number = store.begin_round(night(at), "test")
            part = Part("a", b"%d" % at)
            store.record(
                number,
                [Entry("s", Outcome.CHANGED, night(at), timedelta(), [part], signature=one.to_bytes(2) * 200)],
            )
        first, bits = self.again(store).signature("s") or (0, b"")
        store = self.again(store)
        assert first == 1
        assert [n for n in range(2**15) if bits[n >> 3] >> (n & 7) & 1] == numbers
        assert list(store.signatures()) == [("s", 1, bits)]
        assert (store.signed("s"), store.signed("no"), store.signature("no")) == (True, False, None)
        take(store, 5, Part("a", b"unsigned"))
        assert not store.signed("s"), "a version that nobody signed may hold anything"

    def test_what_is_remembered_is_of_a_source_and_a_topic(self, store: Store) -> None:
        store.remember("s", "t", "one")
        store.remember_all("t", {"r": "two", ESTATE: "three"})
        store = self.again(store)
        assert (store.recall("s", "t"), store.recall(ESTATE, "t"), store.recall("s", "u")) == ("one", "three", None)
        assert store.recall_all("t") == {"s": "one", "r": "two"}
        assert not store.swap("s", "t", "other", "new")
        assert store.swap("s", "t", "one", "new")
        assert store.swap("s", "of none", "", "first")
        assert not store.swap("s", "of none", "", "second")
        store.remember("r", "t", "")
        assert store.recall_all("t") == {"s": "new"}

    def test_what_a_source_remembers_comes_with_its_version_or_not_at_all(self, store: Store) -> None:
        number = store.begin_round(night(0), "test")
        entry = Entry("s", Outcome.NEW, night(0), timedelta(), [Part("a", b"1")], remembered=[("mark", "x")])
        broken = Entry("r", Outcome.NEW, night(0), timedelta(), [Part("a", None)])  # type: ignore[arg-type]
        with pytest.raises((StoreError, TypeError)):
            store.record(number, [entry, broken])
        assert (store.recall("s", "mark"), store.versions("s"), store.visits(number)) == (None, [], [])
        store.record(number, [entry])
        assert store.recall("s", "mark") == "x"

    def test_one_holds_the_lease_until_it_runs_out_or_is_given_back(self, store: Store) -> None:
        now = datetime.now(UTC)
        other, later = "elsewhere 1 2", timedelta(seconds=60)
        assert store.lease("a 1 2", now, now + later) is None
        assert store.lease("a 1 2", now, now + later) is None, "renewed"
        assert store.lease(other, now, now + later) == "a 1 2"
        store.release(other)
        assert store.lease(other, now, now + later) == "a 1 2", "nobody else can give it back"
        store.release("a 1 2")
        assert store.lease(other, now, now + timedelta(seconds=0)) is None
        assert store.lease("a 1 2", now + later, now + 2 * later) is None, "it has run out"

    def test_a_round_is_at_work_as_long_as_its_process(self, store: Store) -> None:
        number = store.begin_round(night(0), "test")
        (one,) = store.rounds()
        assert one.trigger == "test"
        assert store.at_work(one)
        store.remember(ESTATE, f"at work {number}", this_process().rpartition(" ")[0] + " 1")
        assert store.at_work(one) is False
        store.remember(ESTATE, f"at work {number}", "elsewhere 1 2")
        assert store.at_work(one) is None
        store.end_round(number, night(0))
        assert store.at_work(store.rounds()[0]) is False

    def test_nothing_is_recorded_in_a_round_that_has_ended(self, store: Store) -> None:
        number = store.begin_round(night(1), "timetable")
        store.end_round(number, night(1))
        entry = Entry("s", Outcome.NEW, night(1), timedelta(), [Part("a", b"late")])
        with pytest.raises(StoreError, match="was ended by another process"):
            store.record(number, [entry])
        assert store.versions("s") == []
        store.end_round(number, night(2))
        assert store.rounds()[0].ended == night(1)
        numbers = [one.number for one in store.rounds()]
        assert [one.number for one in store.rounds(1, up_to=numbers[0])] == numbers[:1]
        assert [one.number for one in store.rounds(9, up_to=numbers[0] - 1)] == numbers[1:]

    def test_space_is_given_back_and_nothing_else(self, store: Store) -> None:
        for at in range(40):
            take(store, at, Part("a", b"".join(b"%d %d\n" % (at, n * at % 97) for n in range(400))))
        kept = content(store, 40)
        assert store.size() > 0
        assert store.remove(store.versions("s")[:-1], BY_HAND) == 39
        assert store.reclaim() >= 0
        store.give_back()
        store.set_aside()
        assert (store.room() or 1) > 0
        assert content(self.again(store), 40) == kept

    def test_the_change_number_rises_with_versions_alone(self, store: Store) -> None:
        numbers = [store.change_number()]
        take(store, 0, Part("a", b"1"))
        numbers.append(store.change_number())
        store.hold("s", 1, "because")
        numbers.append(store.change_number())
        assert numbers == sorted(set(numbers))
        take(store, 1, Part("a", b"1"))
        store.remember("s", "t", "x")
        assert store.change_number() == numbers[-1]

    def test_it_says_where_it_is_and_is_whole(self, store: Store) -> None:
        key = store.fingerprint_key()
        take(store, 0, Part("a", b"1"))
        store = self.again(store)
        assert store.check() == []
        assert store.fingerprint_key() == key
        assert len(key) == 32
        assert store.place
        assert store.folder is None or str(store.folder) == store.place

    def test_another_sees_what_was_written_and_may_wait_elsewhere(self, store: Store) -> None:
        other = store.another()
        take(store, 0, Part("a", b"1"))
        assert content(other, 1) == {"a": b"1"}

    def test_what_is_to_be_told_waits_until_it_is(self, store: Store) -> None:
        outbox = store.outbox
        outbox.post(
            [Pending("mail", night(9), b"one", 1), Pending("hook", night(0), b"two")], {"t": {"s": "remembered"}}
        )
        assert store.recall("s", "t") == "remembered"
        assert outbox.next_due() == night(0)
        outbox.end_round(1, {"mail": night(2)})
        outbox = self.again(store).outbox
        first, second = outbox.pending()
        assert (first.channel, first.due, first.round, second.event) == ("mail", night(2), None, b"two")
        outbox.write("mail", night(2), "subject", b"letter", [first.number])
        outbox.write("mail", night(2), "told twice", b"letter", [first.number])
        assert outbox.tally() == {"mail": 1, "hook": 1}
        (notice,) = outbox.take(night(2), night(3))
        assert (notice.subject, notice.fate, notice.tries, notice.next) == ("subject", NoticeState.QUEUED, 1, night(3))
        assert outbox.take(night(2), night(3)) == [], "it is ours"
        outbox.settle(notice.number, NoticeState.QUEUED, "busy", night(30), ["a@x", "b@x"])
        assert outbox.waiting()[0].remaining == ("a@x", "b@x")
        outbox.set_right(night(4), night(5), night(5), {"hook": night(4)})
        assert outbox.waiting()[0].next == night(4), "nothing waits longer than that"
        outbox.hurry(night(1))
        assert outbox.waiting()[0].next == night(1)
        outbox.settle(notice.number, NoticeState.SENT, "250 ok")
        assert (outbox.waiting(), outbox.last_sent()) == ([], {"mail": night(2)})
        told = outbox.notice(notice.number)
        assert told is not None
        assert (told.fate, told.answer) == (NoticeState.SENT, "250 ok")
        outbox.forget(night(99))
        assert [one.number for one in outbox.last(9)] == [notice.number], "the last of a channel stays"

    def test_a_copy_in_a_folder_holds_all_of_it_exactly(self, store: Store, tmp_path: Path) -> None:
        for at in range(20):
            take(
                store, at, Part("a", b"".join(b"line %d\n" % (n * (at % 5)) for n in range(50))), Part("b", b"%d" % at)
            )
        store.remove(store.versions("s")[3:6], BY_HAND)
        store.hold("s", 1, "because")
        store.remember("s", "t", "x")
        every = {one.number: store.parts("s", one.number) for one in store.versions("s")}
        assert store.all_parts("s") == every
        assert store.all_parts("nobody") == {}
        copied = store.copy_to(tmp_path / "copy")
        copy = FolderStore(tmp_path / "copy")
        assert (copied.sources, copied.versions, copied.changes) == (1, 17, store.change_number())
        assert whole_store(copy) == whole_store(store)
        assert copy.change_number() == store.change_number()
        copy.close()
        take(store, 30, Part("a", b"later"))
        store.remove(store.versions("s")[8:10], BY_HAND)
        store.hold("s", 1, None)
        store.remember("s", "t", "y")
        assert store.copy_to(tmp_path / "copy").versions == 16, "brought up to date"
        copy = FolderStore(tmp_path / "copy")
        assert whole_store(copy) == whole_store(store)
        assert copy.change_number() == store.change_number()
        assert copy.check() == []
        copy.close()
        assert not [*(tmp_path / "copy").glob("*coming*")]

    def test_a_ledger_by_itself_and_its_contents_make_the_store_again(self, store: Store, tmp_path: Path) -> None:
        for at in range(40):
            take(
                store, at, Part("a", b"".join(b"line %d\n" % (n * (at % 5)) for n in range(50))), Part("b", b"%d" % at)
            )
        store.remove(store.versions("s")[3:26], BY_HAND)
        store.remember("s", "t", "x")
        there = {part.sha256: store.read(part) for one in store.versions("s") for part in store.parts("s", one.number)}
        (tmp_path / "made").mkdir()
        file = tmp_path / "made" / LEDGER
        store.write_ledger(file)
        ledger = BareLedger(file)
        assert {one.sha256: one.size for one in ledger.contents()} == {sha: len(text) for sha, text in there.items()}
        assert ledger.counts() == (1, 17)
        ledger.fill(lambda name, kept: Part(name, there[kept.sha256]))
        made = FolderStore(tmp_path / "made")
        assert whole_store(made) == whole_store(store)
        assert made.change_number() == store.change_number()
        take(made, 50, Part("a", b"later"))
        assert content(made, 41) == {"a": b"later"}
        assert made.check() == []
        made.close()

    def test_what_versions_weigh_is_what_the_store_holds_of_them(self, store: Store) -> None:
        take(store, 0, Part("a", bytes(range(256)) * 40), Part("b", b"once"))
        take(store, 1, Part("a", bytes(range(256)) * 40), Part("b", b"twice"))
        for at in range(2, 40):
            take(store, at, Part("a", b"%d" % at), Part("b", b"twice"))
        weights = store.weights("s")
        assert sorted(weights) == list(range(1, 41))
        assert weights[1] > weights[2] > 0, "what it shares with the one before weighs nothing"
        assert store.weights("nobody") == {}

    def test_what_comes_behind_a_large_content_is_read_when_all_before_it_is_gone(self, store: Store) -> None:
        """It is written whole though it is no keyframe, and moves into a bundle as such."""
        texts = {}
        for at in range(90):
            text = b"".join(b"line %d\n" % (n * (at % 7)) for n in range(40)) + b"%d" % at
            texts[at + 1] = text
            if at % 20 == 5:
                with tempfile.TemporaryFile() as file:
                    file.write(text)
                    digest = hashlib.sha256(text).digest()
                    take(store, at, Part("a", spool=file, spooled=(len(text), digest)))
            else:
                take(store, at, Part("a", text))
        assert {one.number: content(store, one.number)["a"] for one in store.versions("s")} == texts
        store.remove(store.versions("s")[:20], BY_HAND)
        opened = self.again(store)
        assert all(content(opened, one.number)["a"] == texts[one.number] for one in opened.versions("s"))
        opened.remove(opened.versions("s")[:20], BY_HAND)
        opened = self.again(opened)
        assert all(content(opened, one.number)["a"] == texts[one.number] for one in opened.versions("s"))

    def test_a_copy_is_never_made_worse(self, store: Store, tmp_path: Path) -> None:
        take(store, 0, Part("a", b"1"))
        FolderStore.create(tmp_path / "other").close()
        with pytest.raises(StoreError, match="another store"):
            store.copy_to(tmp_path / "other")

    def test_what_was_closed_can_be_opened_again(self, store: Store) -> None:
        take(store, 0, Part("a", b"1"))
        store.close()
        assert content(self.again(store), 1) == {"a": b"1"}


def whole_store(store: Store) -> object:
    """All that a store tells of itself."""
    return (
        {name: (state, store.versions(name)) for name, state in store.states().items()},
        [
            (name, one.number, content(store, one.number, name))
            for name in store.states()
            for one in store.versions(name)
        ],
        [(one, store.visits(one.number)) for one in store.rounds(999)],
        store.recall_all("t"),
        store.fingerprint_key(),
    )
