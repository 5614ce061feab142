"""Who is notified of what, and when: states, routing, the outbox, and what is written."""

import asyncio
import json
import re
import shutil
import sqlite3
from collections.abc import Callable, Iterator
from contextlib import closing, contextmanager
from datetime import UTC, datetime, timedelta
from itertools import pairwise
from pathlib import Path
from typing import cast

import pytest
from hypothesis import example, given
from hypothesis import strategies as st

from historon.base.errors import StoreError
from historon.estate import EVENT_KINDS, Estate, EventKind, Severity, read_estate
from historon.notices import Event, Monitored, Notifier, letter_of, send
from historon.notices.conditions import Condition, News, advance
from historon.notices.routing import due_at, wants
from historon.store import FolderStore
from historon.timetable.service import Service
from tests.conftest import FILES_ESTATE, EstateFolder, WebListener
from tests.leaping import InProcess, LeapingLoop

NOW = datetime(2026, 11, 23, 12, tzinfo=UTC)  # a Monday, 13:00 in Oslo
DAY = timedelta(days=1)


# ---- states -----------------------------------------------------------------------------------------------------------


def _told(outcomes: str, *, step: timedelta = DAY, remind: timedelta = 2 * DAY) -> str:
    """What is reported of these outcomes, one character each; a dot for nothing."""
    letters = {News.BEGAN: "B", News.STILL: "S", News.OVER: "O", News.FLAPPING: "F", None: "."}
    known: Condition | None = None
    said = ""
    for number, one in enumerate(outcomes):
        known, news = advance(known, "failing" if one == "a" else "", NOW + number * step, remind)
        said += letters[news]
    return said


@pytest.mark.parametrize(
    ("outcomes", "told"),
    [
        ("wwww", "...."),
        ("waaw", ".B.O"),
        ("aaaaaaaaaaaaaaaa", "B.S...S.......S."),  # after 2 days, 4 more, 8 more
        ("awawa", "BOBOF"),
        ("awawawawaw", "BOBOF....."),
        ("awawawwww", "BOBOF...O"),
        ("awawaaaa", "BOBOF..B"),
        ("awawawwwwaa", "BOBOF...OB."),
    ],
)
def test_states_are_told_when_they_change_and_at_growing_intervals(outcomes: str, told: str) -> None:
    assert _told(outcomes, remind=2 * DAY if "aaaaaa" in outcomes else 100 * DAY) == told


@given(st.text("wa", max_size=60))
def test_what_is_told_never_contradicts_what_is(outcomes: str) -> None:
    """Whoever reads along knows the state, unless it is flapping; and nothing begins or ends twice."""
    said = _told(outcomes)
    believed: str | None = "w"
    for is_now, news in zip(outcomes, said, strict=True):
        assert not (news == "B" and believed == "a")
        assert not (news == "O" and believed == "w")
        believed = {"B": "a", "O": "w", "F": None}.get(news, believed)
        assert believed in (None, is_now)
    assert _told(outcomes + "wwwwwwww").rstrip(".")[-1:] in ("", "O"), "in the end all know that it is well"


@given(st.integers(1, 3000), st.integers(1, 30))
@example(4000, 1)
def test_reminders_grow_up_to_a_month(days: int, first: int) -> None:
    said = _told("a" * days, remind=first * DAY)
    at = [number for number, news in enumerate(said) if news in "BS"]
    gaps = [later - earlier for earlier, later in pairwise(at)]
    assert all(earlier <= later <= 30 for earlier, later in pairwise(gaps))


def test_a_grave_state_is_told_though_the_source_flaps() -> None:
    known = None
    for number, state in enumerate(["failing", "", "failing", "", "failing"]):
        known, _ = advance(known, state, NOW + number * DAY, DAY)
    assert known
    assert known.flapping
    assert advance(known, "not-resumed", NOW + 5 * DAY, DAY, grave=True)[1] is News.BEGAN


# ---- routing ----------------------------------------------------------------------------------------------------------

ROUTED = (
    FILES_ESTATE.replace('max_age = "26h"', 'max_age = "26h"\nlabels = { site = "northmole" }')
    + """
[[sources]]
name = "other"
procedure = "files"
labels = { site = "saltgate" }
[timetables.mornings]
at = "07:00"
[channels.c]
kind = "file"
path = "told.jsonl"
"""
)


def _estate(more: str) -> Estate:
    return read_estate(Path("/nowhere/historon.toml"), ROUTED + more)


def _wanted(more: str, at: datetime = NOW, source: str = "files") -> set[str]:
    estate = _estate(more)
    about = {
        name: source if kind.per_source or name in ("round-ended", "test") else None
        for name, kind in EVENT_KINDS.items()
    }
    return {kind for kind in EVENT_KINDS if wants(estate.channels["c"], Event(kind, at, "", about[kind]), estate)}


def test_a_channel_hears_what_it_asked_for() -> None:
    trouble = {name for name, kind in EVENT_KINDS.items() if kind.severity <= Severity.WARNING}
    over = {
        "recovered",
        "resumed",
        "fresh-again",
        "requirement-met",
        "disk-well",
        "store-verified",
        "estate-accepted",
        "collecting-again",
        "pruning-again",
        "proven-again",
        "copy-well",
        "known-again",
        "well-again",
    }
    critical = {"not-resumed", "identity-changed", "copy-refused", "store-trouble", "store-damaged", "sources-missing"}
    critical.add("store-claimed")
    assert _wanted("") == set(EVENT_KINDS)
    assert _wanted('tell = "trouble"') == trouble | over
    assert _wanted('tell = "changes"') == trouble | over | {"changed", "new", "pushed"}
    assert _wanted('tell = "critical"') == critical
    assert _wanted('tell = ["critical", "changed"]') == critical | {"changed"}
    assert _wanted('tell = "trouble"\nexcept = ["suspect", "notice"]') == {
        kind for kind in trouble | over if EVENT_KINDS[kind].severity > Severity.NOTICE
    }
    assert _wanted('where = { site = "northmole" }') >= {"failing", "changed"}
    assert "disk-low" not in _wanted('where = { site = "northmole" }')
    assert _wanted('where = { site = "northmole" }', source="other") == set()
    assert _wanted('hours = ["08:00-17:00"]') == set(EVENT_KINDS)
    news = set(EVENT_KINDS) - trouble - over
    assert _wanted('hours = ["08:00-17:00"]', NOW + timedelta(hours=8)) == set(EVENT_KINDS) - news, "trouble waits"


def _due(more: str, kind: str, *, in_round: bool = True, now: datetime = NOW) -> tuple[timedelta, bool]:
    estate = _estate(more)
    at, waits = due_at(estate.channels["c"], Event(kind, now, "", "files"), estate, now, in_round=in_round)
    return at - now, waits


def test_a_channel_hears_when_it_asked_to() -> None:
    hour, now = timedelta(hours=1), timedelta()
    assert _due("", "failing") == (6 * hour, True)
    assert _due("", "failing", in_round=False) == (now, False)
    assert _due("", "not-resumed") == (now, False)
    assert _due("immediately = true", "failing") == (now, False)
    assert _due('digest = "mornings"', "failing") == (18 * hour, False)
    assert _due('digest = "mornings"', "not-resumed") == (now, False)
    assert _due('quiet = ["12:00-22:00"]\nimmediately = true', "failing") == (9 * hour, False)
    assert _due('quiet = ["12:00-22:00"]', "not-resumed") == (now, False)
    assert _due('digest = "mornings"\nquiet = ["22:00-09:00"]', "changed") == (20 * hour, False)


@pytest.mark.parametrize(
    ("more", "said"),
    [
        ('tell = "trubble"', '"trubble" is not a kind of event (did you mean "trouble"?)'),
        ('tell = ["always", "fialing"]', 'did you mean "failing"?'),
        ('digest = "morning"', 'there is no "morning" (did you mean "mornings"?)'),
        ('digest = "mornings"\nimmediately = true', "immediately or in a digest, not both"),
        ('where = { sight = "x" }', 'no source has the label "sight"'),
        ('quiet = ["22-6"]', '"22-6" is not a span of hours'),
        ('all_well = "-1d"', "cannot be negative"),
    ],
)
def test_wrong_routing_is_refused(estate: EstateFolder, more: str, said: str) -> None:
    estate.write(ROUTED + more)
    result = estate.run("notices")
    assert result.code == 4
    assert said in result.err


# ---- the outbox -------------------------------------------------------------------------------------------------------


class Clock:
    """A clock that is set by hand."""

    def __init__(self) -> None:
        self.now = NOW

    def __call__(self) -> datetime:
        return self.now


class Subscription:
    """A notifier over a real store, with a clock that is set by hand and a file as channel."""

    def __init__(self, folder: EstateFolder, more: str = "") -> None:
        folder.write(ROUTED + more)
        self.clock = Clock()
        self.store = FolderStore(folder.path / "store")
        self.estate = read_estate(folder.path / "historon.toml")
        self.notifier = Notifier(self.estate, self.store, self.clock)
        self.file = folder.path / "told.jsonl"

    def told(self) -> list[list[str]]:
        """The kinds of events of each notice in the file."""
        if not self.file.exists():
            return []
        notices = [json.loads(line) for line in self.file.read_text().splitlines()]
        return [[event["kind"] for event in notice["events"]] for notice in notices]

    def deliver(self) -> list[str | None]:
        return [one.trouble for one in self.notifier.delivery.deliver()]

    def event(self, kind: str, source: str | None = "files") -> Event:
        return Event(kind, self.clock(), "what happened", source)


@pytest.fixture
def telling(estate: EstateFolder) -> Iterator[Callable[[str], Subscription]]:
    made: list[Subscription] = []

    def make(more: str = "") -> Subscription:
        made.append(Subscription(estate, more))
        return made[-1]

    yield make
    for one in made:
        one.store.close()


def test_a_digest_gathers_until_its_time_and_then_tells_all_of_it(telling: Callable[[str], Subscription]) -> None:
    one = telling('digest = "mornings"')
    one.notifier.tell(one.event("failing"), one.event("changed", "other"))
    assert one.deliver() == []
    one.clock.now += timedelta(hours=10)
    one.notifier.tell(one.event("recovered"))
    assert one.deliver() == []
    one.clock.now += timedelta(hours=8)
    assert one.deliver() == [None]
    assert one.told() == [["recovered", "changed"]], "as it is when it is sent: the trouble is over"
    assert one.deliver() == []


def test_a_digest_tells_each_trouble_that_goes_on_once(telling: Callable[[str], Subscription]) -> None:
    one = telling('digest = "mornings"')
    one.notifier.tell(one.event("overdue"), one.event("failing"), one.event("overdue", "other"))
    for _ in range(3):
        one.clock.now += timedelta(hours=2)
        one.notifier.tell(one.event("still-failing"))
    one.notifier.tell(one.event("fresh-again", "other"))
    one.clock.now += timedelta(hours=18)
    assert one.deliver() == [None]
    (told,) = one.told()
    assert sorted(told) == ["fresh-again", "overdue", "still-failing"]


def test_what_a_channel_that_is_down_missed_comes_in_one_piece(telling: Callable[[str], Subscription]) -> None:
    one = telling('tell = "always"')
    one.file.mkdir()
    one.notifier.tell(one.event("failing"))
    assert "Is a directory" in str(one.deliver()[0])
    for _ in range(24):
        one.clock.now += timedelta(hours=1)
        one.notifier.tell(one.event("changed"))
        assert len(one.deliver()) == 1
    one.file.rmdir()
    one.clock.now += timedelta(hours=1)
    assert one.deliver() == [None]
    assert one.deliver() == [None]
    assert one.told() == [["failing"], ["changed"] * 24]
    fates = [(notice.fate.value, notice.tries) for notice in one.store.outbox.last(9)]
    assert fates == [("sent", 1), ("sent", 26)]


def test_what_cannot_be_told_expires_with_a_trace(telling: Callable[[str], Subscription]) -> None:
    one = telling("")
    one.file.mkdir()
    one.notifier.tell(one.event("failing"))
    one.deliver()
    one.clock.now += timedelta(days=2)
    one.deliver()
    one.clock.now += timedelta(days=1, minutes=61)
    assert one.deliver() == []
    (notice,) = one.store.outbox.last(9)
    assert notice.fate == "expired"
    assert re.search(r"given up after 3d 1h: file .*Is a directory", notice.answer or "")


def test_a_channel_that_is_gone_takes_nothing_with_it(
    telling: Callable[[str], Subscription], estate: EstateFolder
) -> None:
    one = telling("")
    one.notifier.tell(one.event("failing"))
    estate.write(FILES_ESTATE)
    gone = Notifier(read_estate(estate.path / "historon.toml"), one.store, one.clock)
    assert list(gone.delivery.deliver()) == []
    (notice,) = one.store.outbox.last(9)
    assert (notice.fate, notice.answer) == ("expired", "there is no channel c any more")


def test_two_processes_never_send_the_same(telling: Callable[[str], Subscription], estate: EstateFolder) -> None:
    one = telling("")
    one.notifier.tell(one.event("failing"))
    other_store = FolderStore(estate.path / "store")
    other = Notifier(one.estate, other_store, one.clock)
    first, second = one.notifier.delivery.outgoing(), other.delivery.outgoing()
    assert (len(first), len(second)) == (1, 0)
    one.clock.now += timedelta(minutes=11)  # the first one died over it
    assert len(other.delivery.outgoing()) == 1
    other_store.close()


def test_a_store_that_takes_nothing_is_told_of_all_the_same(
    telling: Callable[[str], Subscription], monkeypatch: pytest.MonkeyPatch
) -> None:
    one = telling("")

    def full(*_: object) -> None:
        raise StoreError("the disk is full")

    for name in ("post", "take", "write", "pending", "waiting"):
        monkeypatch.setattr(one.store.outbox, name, full)
    one.notifier.tell(one.event("store-trouble", None))
    for outgoing in one.notifier.delivery.outgoing():
        assert one.notifier.delivery.settle(outgoing, send(outgoing, one.estate, NOW)).trouble is None
    assert one.told() == [["store-trouble"]]


def test_all_is_well_is_told_as_often_as_wanted(telling: Callable[[str], Subscription]) -> None:
    one = telling('tell = "trouble"\nall_well = "7d"')
    for _ in range(20):
        one.notifier.tell_well(one.event("all-well", None))
        one.notifier.tell_well(one.event("all-well", None))
        one.deliver()
        one.clock.now += DAY
    assert one.told() == [["all-well"]] * 3
    one.notifier.tell(one.event("failing"))
    one.deliver()
    one.clock.now += 2 * DAY
    one.notifier.tell_well(one.event("all-well", None))
    assert one.deliver() == [], "something was told two days ago"


def test_a_source_that_stays_broken_is_told_once_and_then_told_of_again(files_estate: EstateFolder) -> None:
    files_estate.write(
        FILES_ESTATE
        + '[notices]\ntell_again = "1h"\n[channels.c]\nkind = "file"\npath = "told.jsonl"\ntell = "changes"\n'
    )
    shutil.rmtree(files_estate.path / "data")
    for _ in range(3):
        assert files_estate.run("collect").code == 3
    (files_estate.path / "data").mkdir()
    (files_estate.path / "data" / "a").write_text("x\n")
    assert files_estate.run("collect").code == 0
    told = [json.loads(line) for line in (files_estate.path / "told.jsonl").read_text().splitlines()]
    kinds = [[event["kind"] for event in notice["events"]] for notice in told]
    assert kinds == [["failing", "round-ended"], ["recovered", "new", "round-ended"]]
    assert told[0]["subject"] == "1 FAILED of 1, nothing changed: Test"
    assert told[1]["subject"] == "1 collected, 1 recovered, 1 new: Test"
    files_estate.write(FILES_ESTATE + '[channels.c]\nkind = "file"\npath = "all.jsonl"\n')
    shutil.rmtree(files_estate.path / "data")
    for _ in range(2):
        assert files_estate.run("collect").code == 3
    first, second = (json.loads(line) for line in (files_estate.path / "all.jsonl").read_text().splitlines())
    assert "as told before" not in first["text"]
    assert second["subject"] == "1 of 1 still not well, nothing changed: Test"
    assert "Still not well, as reported before: files." in second["text"]
    history = files_estate.run("notices", "history").out
    assert history.count(" sent ") == 4
    assert "files: could not be collected" in files_estate.run("notices", "show", "1").out
    assert files_estate.run("notices", "show", "7").code == 2
    assert files_estate.run("notices", "show", "seven").code == 2


def test_what_waits_is_listed_and_can_be_sent(files_estate: EstateFolder, listener: WebListener) -> None:
    files_estate.write(FILES_ESTATE + '[channels.c]\nkind = "webhook"\nurl = "env:HOOK"\n')
    listener.status = 503
    failed = files_estate.run("collect", HOOK=listener.address)
    assert failed.code == 6
    assert "queued for another try: historon notices" in failed.err
    listed = files_estate.run("notices").out
    assert "c: notice 1 is queued, after 1 try; the next is at" in listed
    assert "answered with status 503" in listed
    data = files_estate.run("notices", "--json").data
    assert [one["state"] for one in data["queued"]] == ["queued"]
    assert files_estate.run("notices", "send", HOOK=listener.address).code == 6
    listener.status = 204
    assert files_estate.run("notices", "send", HOOK=listener.address).out == "c: sent\n"
    assert files_estate.run("notices", "send", HOOK=listener.address).out == "no notice is waiting\n"
    assert len({body for _, _, body in listener.heard}) == 1, "the same notice each time"


# ---- wording ----------------------------------------------------------------------------------------------------------


def test_every_kind_of_event_has_words_and_is_documented() -> None:
    text = (Path(__file__).parent.parent / "docs" / "notices.md").read_text()
    for name, kind in EVENT_KINDS.items():
        assert kind.subject or name in ("skipped", "round-ended")
        assert kind.words
        assert f"`{name}`" in text, name
        assert not kind.still or kind.still in EVENT_KINDS


@pytest.mark.parametrize("name", [name for name, kind in EVENT_KINDS.items() if kind.still])
def test_what_goes_on_is_reported_again_under_its_own_name(telling: Callable[[str], Subscription], name: str) -> None:
    one = telling('tell = "always"')
    look = Monitored("files", name, "well-again", lambda kind: Event(kind, one.clock.now, "so it is", "files"))
    reported = []
    for hours in (0, 1, 24):
        one.clock.now += timedelta(hours=hours)
        reported.append([event.kind for event in one.notifier.watch("topic", [look])])
    assert reported == [[name], [], [EVENT_KINDS[name].still]]


def test_a_new_kind_of_event_is_one_row(monkeypatch: pytest.MonkeyPatch) -> None:
    row = EventKind(
        "door-open", Severity.ERROR, "DOOR OPEN", "its door stands open", per_source=True, still="door-open"
    )
    monkeypatch.setitem(cast("dict[str, EventKind]", EVENT_KINDS), row.name, row)
    estate = _estate('tell = "door-open"')
    event = Event("door-open", NOW, "since noon", "files")
    assert wants(estate.channels["c"], event, estate)
    letter = letter_of([event, Event("changed", NOW, "", "files")], estate.channels["c"], estate, NOW)
    assert letter.subject.startswith("1 DOOR OPEN, 1 changed")
    assert letter.text.index("files: its door stands open") > letter.text.lower().index("needs action")
    assert event.data["severity"] == "error"


def test_a_version_that_could_not_be_compared_is_in_the_letter_too(files_estate: EstateFolder) -> None:
    """It is counted in the subject, and no family has it."""
    files_estate.write(FILES_ESTATE + RECORD)
    estate = read_estate(files_estate.path / "historon.toml")
    (channel,) = estate.channels.values()
    event = Event("changed", NOW, "version 5, +0 -0 lines", "files", look="historon diff files", version=5)
    text = letter_of([event], channel, estate, NOW).text
    assert "files: version 5, +0 -0 lines" in text
    assert "its changes could not be calculated" in text
    assert "look: historon diff files" in text


def test_every_subject_says_state_and_count_at_once() -> None:
    estate = _estate("")
    channel = estate.channels["c"]
    for kind in EVENT_KINDS:
        letter = letter_of([Event(kind, NOW, "what\x1b[2J happened", "files")], channel, estate, NOW)
        assert letter.subject.endswith(": Test")
        assert "\x1b" not in letter.text + letter.html + letter.subject
    many = [Event("failing", NOW, f"no answer in {n} s", f"s{n}", "try it") for n in range(60)]
    letter = letter_of([*many, Event("not-resumed", NOW, "down", "files", "resume it")], channel, estate, NOW)
    assert letter.subject == "1 SERVICE NOT RESUMED, 60 FAILED: Test"
    assert letter.text.index("files: its service was paused and is NOT RESUMED") < letter.text.index(
        "s0: could not be collected"
    )
    assert "21 more\n" in letter.text
    assert "s59" in letter.text, "each is named, also where there are many"
    alike = [Event("failing", NOW, "no answer", f"s{n}", "try it") for n in range(60)]
    letter = letter_of(alike, channel, estate, NOW)
    assert "and 54 more: could not be collected, all 60 for the same reason" in letter.text
    assert "s59" in letter.text
    assert letter.text.count("no answer") == 1


def test_what_lies_far_apart_is_told_with_its_time() -> None:
    estate = _estate("")
    events = [
        Event("failing", NOW, "no answer", "files"),
        Event("recovered", NOW + 9 * timedelta(hours=1), "after 9h", "files"),
    ]
    letter = letter_of(events, estate.channels["c"], estate, NOW + DAY)
    assert "2026-11-23 13:00 files: could not be collected" in letter.text
    assert "2026-11-23 22:00 files: collected again" in letter.text


# ---- what the estate goes through -------------------------------------------------------------------------------------

RECORD = '[channels.c]\nkind = "file"\npath = "told.jsonl"\nimmediately = true\n'


def _kinds(estate: EstateFolder) -> list[str]:
    file = estate.path / "told.jsonl"
    notices = [json.loads(line) for line in file.read_text().splitlines()] if file.exists() else []
    return [event["kind"] for notice in notices for event in notice["events"]]


class FailingStore(FolderStore):
    """A store whose disk fails now and then."""

    broken = False

    def __init__(self, folder: Path) -> None:
        super().__init__(folder)
        while_whole = self.transactions.doing

        @contextmanager
        def doing(what: str) -> Iterator[None]:
            if self.broken:
                raise StoreError(f"cannot {what}: disk I/O error", hint="check the disk")
            with while_whole(what):
                yield

        self.transactions.doing = doing  # type: ignore[method-assign]


def test_a_service_whose_store_fails_says_so_past_the_store_and_goes_on(files_estate: EstateFolder) -> None:
    text = FILES_ESTATE.replace("[[sources]]", '[timetables.t]\nevery = "1h"\n[[sources]]\ntimetable = "t"') + RECORD
    files_estate.write(text.replace('name = "Test"', 'name = "Test"\nwarn_free = "1B"', 1))
    stores: list[FailingStore] = []

    def opened(estate: Estate) -> FailingStore:
        stores.append(FailingStore(estate.path(estate.settings.store)))
        return stores[0]

    async def play() -> None:
        loop = asyncio.get_running_loop()
        service = Service(
            files_estate.path / "historon.toml",
            opened,
            lambda: NOW + timedelta(seconds=loop.time()),
            workers=InProcess(),
        )
        running = asyncio.create_task(service.run())
        await asyncio.sleep(5400)
        stores[0].broken = True
        await asyncio.sleep(7200)
        assert service.figures.state(NOW + timedelta(seconds=loop.time())).startswith("store trouble: cannot")
        stores[0].broken = False
        await asyncio.sleep(3600)
        assert service.figures.trouble == ""
        service.stop()
        await running

    with asyncio.Runner(loop_factory=LeapingLoop) as runner:
        runner.run(play())
    kinds = _kinds(files_estate)
    assert kinds.count("store-trouble") == 1
    assert kinds.index("store-trouble") > kinds.index("new")
    store = files_estate.store()
    assert len(store.rounds()) == 3, "one hour, then one catch-up for what fell into the trouble, then the next hour"
    store.close()


def test_a_clock_that_was_wrong_for_a_while_stops_nothing(files_estate: EstateFolder) -> None:
    text = FILES_ESTATE.replace("[[sources]]", '[timetables.t]\nevery = "1h"\n[[sources]]\ntimetable = "t"')
    files_estate.write(text)
    ahead = timedelta()

    async def play() -> None:
        nonlocal ahead
        loop = asyncio.get_running_loop()

        def clock() -> datetime:
            return NOW + timedelta(seconds=loop.time()) + ahead

        service = Service(
            files_estate.path / "historon.toml",
            lambda one: FolderStore(one.path(one.settings.store)),
            clock,
            workers=InProcess(),
        )
        running = asyncio.create_task(service.run())
        for hours, jump in ((2.5, timedelta(days=365)), (0.2, timedelta()), (3, timedelta())):
            await asyncio.sleep(hours * 3600)
            ahead = jump
        service.stop()
        await running

    with asyncio.Runner(loop_factory=LeapingLoop) as runner:
        runner.run(play())
    store = files_estate.store()
    runs = [one.began for one in store.rounds()]
    late = store.lease("another", NOW, NOW + timedelta(minutes=1))
    assert late is None, "the lease was given back"
    ahead_of_time = NOW + timedelta(days=365)
    assert store.lease("from the future", ahead_of_time, ahead_of_time + timedelta(minutes=1)) is None
    assert store.lease("another", NOW, NOW + timedelta(minutes=1)) is None, "nobody waits a year for a lease"
    store.close()
    assert [at.year for at in runs] == [2026, 2026, 2026, 2027, 2026, 2026], "and on it goes, once an hour"


def test_a_channel_that_fails_in_a_way_nobody_thought_of_ends_nothing(
    telling: Callable[[str], Subscription], monkeypatch: pytest.MonkeyPatch
) -> None:
    from historon.notices.channels import file

    one = telling("")
    monkeypatch.setattr(file, "send", lambda *_: 1 / 0)
    one.notifier.tell(one.event("failing"))
    assert one.deliver() == ["unexpected ZeroDivisionError: division by zero (please report this)"]
    assert len(one.store.outbox.waiting()) == 1


def test_a_key_that_is_confirmed_at_once_was_never_a_failure(router_estate: Callable[..., EstateFolder]) -> None:
    estate = router_estate(unpinned="yes", more=RECORD)
    assert estate.run("collect").code == 3
    assert _kinds(estate) == ["failing", "round-ended"]
    (estate.path / "told.jsonl").unlink()
    assert estate.run("collect", "--trust-first-contact").code == 0
    assert _kinds(estate) == ["recovered", "new", "round-ended"]


def test_another_host_key_is_graver_than_a_failure(router_estate: Callable[..., EstateFolder]) -> None:
    estate = router_estate(source=f'host_key = "SHA256:{"A" * 43}"', more=RECORD)
    assert estate.run("collect").code == 3
    assert _kinds(estate) == ["identity-changed", "round-ended"]
    told = json.loads((estate.path / "told.jsonl").read_text().splitlines()[0])
    assert (told["severity"], told["subject"]) == (2, "1 IDENTITY CHANGED: Test") or "IDENTITY CHANGED" in told[
        "subject"
    ]


def test_what_was_not_resumed_is_told_before_anything_else(estate: EstateFolder) -> None:
    pausing = FILES_ESTATE.replace(
        'steps = [{ pull = "data" }]',
        'steps = [{ pause = ["true"], resume = ["false"], steps = [{ pull = "data" }] }]\nretry_pause = "50ms"',
    )
    (estate.path / "data").mkdir()
    (estate.path / "data" / "a").write_text("x\n")
    estate.write(pausing + RECORD)
    assert estate.run("collect").code == 3
    assert _kinds(estate)[0] == "not-resumed"


def test_the_service_tells_of_rounds_that_cannot_begin_of_the_disk_and_of_an_end_like_death(
    files_estate: EstateFolder,
) -> None:
    text = FILES_ESTATE.replace("[[sources]]", '[timetables.t]\nat = "02:30"\n[[sources]]\ntimetable = "t"') + RECORD
    text = text.replace('name = "Test"', 'name = "Test"\nwarn_free = "1000GB"\nmount = "data"', 1)
    files_estate.write(text)
    store = files_estate.store()
    store.remember_all("timetable", {"files": (datetime.now(UTC) - 2 * DAY).isoformat()})
    store.remember("", "service", "host, process 1, since 2026-11-20 03:00 UTC")
    store.close()
    for _ in range(2):
        files_estate.run("serve", "--once")
    assert sorted(_kinds(files_estate)) == ["collecting-blocked", "disk-low", "overdue"]
    files_estate.write(text.replace('warn_free = "1000GB"\nmount = "data"', 'warn_free = "1B"'))
    store = files_estate.store()
    store.remember_all("timetable", {"files": (datetime.now(UTC) - 2 * DAY).isoformat()})
    store.close()
    files_estate.run("serve", "--once")
    assert set(_kinds(files_estate)[3:]) >= {"disk-well", "collecting-again", "new"}


def test_a_subject_speaks_of_what_it_looked_at_and_of_what_still_stands(estate: EstateFolder) -> None:
    """A round of one good source is no all-clear for ten that went wrong before."""
    (estate.path / "good").write_text("x\n")
    sources = "".join(
        f'[[sources]]\nname = "{name}"\nprocedure = "files"\nvalues = {{ path = "{name}" }}\n'
        for name in ("good", *(f"bad-{number}" for number in range(10)))
    )
    head = '[estate]\nname = "Test"\n[procedures.files]\nover = "local"\nsteps = [{ pull = "{path}", as = "x" }]\n'
    estate.write(head + '[channels.c]\nkind = "file"\npath = "told.jsonl"\n' + sources)
    assert estate.run("collect").code == 3
    assert estate.run("collect", "good").code == 0
    lines = (estate.path / "told.jsonl").read_text().splitlines()
    first, second = (json.loads(line) for line in lines)
    assert first["subject"] == "10 FAILED of 11, 1 new: Test"
    assert second["subject"] == "1 collected, nothing changed; 10 others still not well: Test"
    assert (
        "Not collected in this round: 10 more whose last try failed or was suspect. look: historon status"
        in second["text"]
    )


def test_an_event_that_waits_since_before_it_had_its_name_is_sent(files_estate: EstateFolder) -> None:
    channel = '[channels.c]\nkind = "file"\npath = "told.jsonl"\ndigest = "t"\n[timetables.t]\nat = "02:30"\n'
    files_estate.write(FILES_ESTATE + channel)
    assert files_estate.run("collect").code == 0
    with closing(sqlite3.connect(files_estate.path / "store" / "ledger.sqlite")) as db:
        changed = db.execute("""UPDATE pending SET due = 0, event = replace(event, '"kind":"new"', '"kind":"first"')""")
        assert changed.rowcount > 0
        db.commit()
    assert files_estate.run("notices", "send").code == 0
    kinds = [one["kind"] for one in json.loads((files_estate.path / "told.jsonl").read_text())["events"]]
    assert "new" in kinds
    assert "first" not in kinds
