"""A month of an estate of 60 sources, played by the real service on a clock that leaps from one thing to the next."""

import asyncio
import json
from collections import Counter
from collections.abc import Callable, Iterable, Iterator, Mapping
from datetime import UTC, date, datetime, time, timedelta
from pathlib import Path
from typing import Any
from zoneinfo import ZoneInfo

import msgspec
import pytest

from historon.notices import Letter
from historon.standins.certificates import SelfSigned
from historon.standins.pennant import Pennant
from historon.store import FolderStore, NoticeState, Outcome
from historon.timetable.service import Service
from tests.conftest import EstateFolder, WebListener
from tests.leaping import InProcess, LeapingLoop, fast_folder

pytestmark = pytest.mark.campaign

OSLO = ZoneInfo("Europe/Oslo")
START = datetime(2026, 10, 10, 12, tzinfo=OSLO)  # clocks go back on 2026-10-25, at 03:00
NIGHTS = 31
SOURCES = [f"s{n:03}" for n in range(60)]
HOUR, DAY = timedelta(hours=1), timedelta(days=1)
TROUBLE = {
    "not-resumed",
    "identity-changed",
    "store-trouble",
    "failing",
    "still-failing",
    "overdue",
    "still-overdue",
    "collecting-blocked",
    "estate-refused",
    "collecting-missed",
    "service-died",
    "suspect",
    "still-suspect",
    "flapping",
    "requirement-failed",
    "disk-low",
    "recovered",
    "resumed",
    "fresh-again",
    "requirement-met",
    "disk-well",
    "collecting-again",
    "estate-accepted",
    "channel-failing",
    "well-again",
}


class CrashingService(Service):
    """A service that can die at once: without a word, in the middle of a round."""

    crashed = False

    async def _end(self) -> None:
        if not self.crashed:
            await super()._end()

    def crash(self) -> None:
        self.crashed = True
        self._store.close()
        for task in self._rounds:
            task.cancel()


# ---- what the month brings --------------------------------------------------------------------------------------------


def _state(number: int, night: int) -> str:
    """`w` for well, `a` for not there, `s` for cut off."""
    if number < 5:
        return "a" if 4 <= night <= 6 else "w"
    if number < 8:
        return "a" if 4 <= night <= 12 and night % 2 == 0 else "w"
    if number == 8:
        return "a" if night >= 5 else "w"
    return "s" if number == 9 and night in (9, 10) else "w"


_ALIKE, _EDITED = range(14, 30), range(30, 52)  # with the same edit, and with edits of their own


def _edits(number: int, night: int) -> int:
    """How many edits a source has had up to a night."""
    if number in _ALIKE:
        return int(night >= 8)
    if number in _EDITED:
        return sum((number * 7 + one) % 10 == 0 for one in range(2, night + 1))
    return 0


EXPECTED: dict[range, list[str]] = {
    range(5): [
        "new",
        "failing",
        "overdue",
        "still-failing",
        "recovered",
        "fresh-again",
    ],
    range(5, 8): [
        "new",
        "failing",
        "overdue",
        "recovered",
        "fresh-again",
        "failing",
        "overdue",
        "recovered",
        "fresh-again",
        "flapping",
        "recovered",
    ],
    range(8, 9): ["new", "failing", "overdue", *["still-failing"] * 4],
    range(9, 10): ["new", "suspect", "overdue", "still-suspect", "recovered", "fresh-again"],
    range(10, 14): ["new"],
    _ALIKE: ["new", "changed"],
    range(52, 60): ["new"],
}


class Month:
    """The estate, its surroundings, and the clock."""

    def __init__(self, folder: EstateFolder, relay: Pennant, listener: WebListener) -> None:
        self.folder, self.relay, self.listener = folder, relay, listener
        self.text = _estate_text(relay, listener)
        folder.write(self.text)
        (folder.path / "keys" / "mail").write_text("signal-flag")
        (folder.path / "keys" / "hook").write_text(listener.address)
        for file in (folder.path / "keys").iterdir():
            file.chmod(0o600)
        self.loop: asyncio.AbstractEventLoop | None = None
        self.turn(1)

    def clock(self) -> datetime:
        assert self.loop
        return START.astimezone(UTC) + timedelta(seconds=self.loop.time())

    async def until(self, night: int, hours: float) -> None:
        """Wait for an hour, by the clock of the wall, of the day of this night."""
        at = datetime.combine(START.date() + night * DAY, datetime.min.time(), OSLO).astimezone(UTC) + hours * HOUR
        await asyncio.sleep((at - self.clock()).total_seconds())

    def turn(self, night: int) -> None:
        """Make the sources what they are in this night."""
        for number, name in enumerate(SOURCES):
            file = self.folder.path / "data" / name / "a.conf"
            file.parent.mkdir(parents=True, exist_ok=True)
            state = _state(number, night)
            if state == "a":
                file.unlink(missing_ok=True)
                continue
            what = "deny telnet" if number in _ALIKE else "permit visitors"
            edits = "".join(f"{what} {edit}\n" for edit in range(_edits(number, night)))
            file.write_text(f"hostname {name}\n{edits}" + "end\n" * (state == "w"))

    async def world(self) -> None:
        """What happens around Historon."""
        for night in range(2, NIGHTS + 1):
            await self.until(night - 1, 12)
            self.turn(night)
            self.listener.status = 503 if night == 16 else 204
            self.relay.busy = {"one@brackwater.example"} if night in (17, 18) else set()

    def service(self) -> CrashingService:
        return CrashingService(
            self.folder.path / "historon.toml",
            lambda one: FolderStore(one.path(one.settings.store)),
            self.clock,
            tick=timedelta(minutes=15),
            workers=InProcess(),
        )

    async def play(self) -> None:
        self.loop = asyncio.get_running_loop()
        world = asyncio.create_task(self.world())
        service = self.service()
        running = asyncio.create_task(service.run())
        await self.until(12, 13)  # restarted, as it should be
        service.stop()
        await running
        await asyncio.sleep(600)
        service = self.service()
        running = asyncio.create_task(service.run())
        await self.until(20, 2.75)  # dies in the middle of a round
        service.crash()
        running.cancel()
        await asyncio.wait([running])
        await asyncio.sleep(180)
        service = self.service()
        running = asyncio.create_task(service.run())
        await self.until(22, 15)  # a mistake in the estate file
        self.folder.write(self.text.replace('at = "02:30"', 'at = "25:30"'))
        await asyncio.sleep(3600)
        self.folder.write(self.text + "\n")
        await self.until(25, 1)  # down over night
        service.stop()
        await running
        await self.until(25, 5)
        service = self.service()
        running = asyncio.create_task(service.run())
        await self.until(NIGHTS, 12)
        service.stop()
        await running
        await world


def _estate_text(relay: Pennant, listener: WebListener) -> str:
    sources = "".join(
        f'[[sources]]\nname = "{name}"\nprocedure = "files"\ntimetable = "nightly"\nmax_age = "30h"\n'
        f'labels = {{ site = "{"northmole" if number % 2 else "saltgate"}" }}\n'
        for number, name in enumerate(SOURCES)
    )
    return f"""
[estate]
name = "Brackwater Ferries"
time_zone = "Europe/Oslo"
warn_free = "1B"
[credentials.mail]
user = "historon"
password = "file:keys/mail"
[procedures.files]
over = "local"
steps = [{{ pull = "data/{{name}}/a.conf", as = "a.conf", ends_with = "end" }}]
[timetables.nightly]
at = "02:30"
spread = "40m"
[timetables.mondays]
at = "08:00"
weekdays = ["mon"]
[channels.record]
kind = "file"
path = "record.jsonl"
immediately = true
[channels.operators]
kind = "mail"
to = ["one@brackwater.example", "two@brackwater.example"]
from = "historon@brackwater.example"
server = "localhost"
port = {relay.port}
credentials = "mail"
certificate = "{relay.tls.fingerprint}"
tell = "changes"
[channels.chat]
kind = "webhook"
url = "file:keys/hook"
tell = "trouble"
[channels.week]
kind = "file"
path = "week.jsonl"
tell = "changes"
digest = "mondays"
[channels.northmole]
kind = "file"
path = "northmole.jsonl"
tell = "changes"
except = ["new", "fresh-again"]
where = {{ site = "northmole" }}
[channels.pager]
kind = "file"
path = "pager.jsonl"
tell = "error"
quiet = ["00:00-07:00"]
[channels.evenings]
kind = "file"
path = "evenings.jsonl"
tell = "trouble"
hours = ["12:00-00:30"]
{sources}"""


# ---- what was reported ----------------------------------------------------------------------------------------------------


DeliveryResult = Mapping[str, Any]


def _notices(file: Path) -> list[DeliveryResult]:
    return [json.loads(line) for line in file.read_text().splitlines()] if file.exists() else []


def _events(notices: list[DeliveryResult]) -> Counter[tuple[str, str | None, str]]:
    """Each event of some notices, but for the rounds that come along."""
    return Counter(
        (event["kind"], event["source"], event["at"])
        for notice in notices
        for event in notice["events"]
        if event["kind"] != "round-ended"
    )


def _local(written: str) -> datetime:
    return datetime.fromisoformat(written).astimezone(OSLO)


_OF_THE_SERVICE = ("estate-refused", "service-died", "channel-failing", "collecting-missed")
WANTED: dict[str, Callable[[str, str | None, str], bool]] = {
    "chat": lambda kind, _source, _at: kind in TROUBLE,
    "week": lambda kind, _source, _at: kind in TROUBLE | {"changed", "new"},
    "northmole": lambda kind, source, _at: (
        kind in TROUBLE - {"fresh-again"} | {"changed"} and bool(source and int(source[1:]) % 2)
    ),
    "pager": lambda kind, _source, _at: (
        kind in {"failing", "still-failing", "overdue", "still-overdue", *_OF_THE_SERVICE}
    ),
    "evenings": lambda kind, _source, _at: kind in TROUBLE,
    "operators": lambda kind, _source, _at: kind in TROUBLE | {"changed", "new"},
}


@pytest.fixture
def relay(tmp_path: Path) -> Iterator[Pennant]:
    made = Pennant(SelfSigned.make(tmp_path))
    made.unknown = {"two@brackwater.example"}
    made.start()
    yield made
    made.stop()


@pytest.fixture
def month(relay: Pennant, listener: WebListener) -> Iterator[Month]:
    with fast_folder() as folder:
        estate = EstateFolder(folder)
        (estate.path / "keys").mkdir(mode=0o700)
        FolderStore.create(estate.path / "store").close()
        made = Month(estate, relay, listener)
        with asyncio.Runner(loop_factory=LeapingLoop) as runner:
            runner.run(made.play())
        yield made


def test_every_event_of_a_month_is_told_exactly_as_the_routing_says(month: Month) -> None:
    store = month.folder.store()
    record = _notices(month.folder.path / "record.jsonl")
    happened = _events(record)
    assert set(happened.values()) == {1}, "each event is told once"
    _check_rounds(store, record)
    _check_what_happened(record)
    sent = [one for one in store.outbox.last(10**6) if one.fate is NoticeState.SENT]
    left = Counter(one.channel for one in store.outbox.pending())
    received: dict[str, list[DeliveryResult]] = {
        name: _notices(month.folder.path / f"{name}.jsonl") for name in ("week", "northmole", "pager", "evenings")
    }
    received["chat"] = list({body: json.loads(body) for _, _, body in month.listener.heard}.values())
    letters = [msgspec.json.decode(one.letter, type=Letter) for one in sent if one.channel == "operators"]
    received["operators"] = [
        {
            "events": [
                {
                    "kind": event.kind,
                    "source": event.source,
                    "at": event.at.isoformat(timespec="milliseconds").replace("+00:00", "Z"),
                }
                for event in letter.events
            ]
        }
        for letter in letters
    ]
    for name, wanted in WANTED.items():
        told = _events(received[name])
        meant = Counter({event: 1 for event in happened if wanted(*event)})
        assert not told - meant, name
        over = _over_by_then(meant, received[name][-1]["at"]) if name == "week" else set()
        assert not over & told.keys(), "a digest tells how things are when it is sent"
        assert sum((meant - told).values()) == left[name] + len(over), name
    assert set(left) <= {"week"}, "only the digest of the next Monday is still to come"
    assert left["week"] > 0
    _check_times(received)
    _check_mail(month.relay, letters)
    assert [one for one in store.outbox.last(10**6) if one.fate is not NoticeState.SENT] == []
    chat = [one for one in sent if one.channel == "chat" and one.tries > 1]
    assert len(chat) == 1, "one notice was tried again and again while the channel was down, the rest waited behind it"
    assert chat[0].tries > 10
    store.close()


_ENDS = {"failing": "recovered", "suspect": "recovered", "identity-changed": "recovered", "overdue": "fresh-again"}


def _over_by_then(meant: Iterable[tuple[str, str | None, str]], last: str) -> set[tuple[str, str | None, str]]:
    """The troubles that were over, or were reported again, when the digest of their week was written."""
    found = set()
    events = sorted((event for event in meant if event[2] < last), key=lambda event: event[2])
    for event in events:
        kind, source, at = event
        plain = kind.removeprefix("still-")
        ends = {_ENDS.get(plain, f"{plain}-nothing"), plain, f"still-{plain}"}
        ends |= {"collecting-again"} if plain == "collecting-blocked" else set()
        ends |= {"estate-accepted"} if plain == "estate-refused" else set()
        ends |= {"resumed"} if plain == "not-resumed" else set()
        ends |= {"well-again"} if plain == "channel-failing" else set()
        later = [one for one in events if one[1] == source and one[2] > at and _monday(one[2]) == _monday(at)]
        if (plain in _ENDS or len(ends) > 3) and any(one[0] in ends for one in later):
            found.add(event)
    return found


def _monday(at: str) -> date:
    """The Monday on whose morning something is reported that happened at an instant."""
    local = _local(at) - timedelta(hours=8)
    return local.date() + timedelta(days=7 - local.weekday())


def _check_rounds(store: FolderStore, record: list[DeliveryResult]) -> None:
    """Every source in every night once, also when clocks go back, the service dies or is down."""
    nights: Counter[tuple[str, date]] = Counter()
    at_two_thirty = []
    ended = [one for one in store.rounds(10**6) if one.ended is not None]
    for one in store.rounds(10**6):
        for visit in store.visits(one.number):
            if visit.outcome is not Outcome.SKIPPED:
                nights[visit.source, visit.at.astimezone(OSLO).date()] += 1
                at_two_thirty.append(visit.at.astimezone(OSLO))
    assert set(nights.values()) == {1}
    assert len(nights) == len(SOURCES) * NIGHTS
    odd = {
        at.date() for at in at_two_thirty if not 2.5 * HOUR <= _since_midnight(at) <= 2.5 * HOUR + timedelta(minutes=40)
    }
    assert odd == {date(2026, 11, 4)}, "made up for after a night that the service was down"
    told = [event for notice in record for event in notice["events"] if event["kind"] == "round-ended"]
    assert len(told) == len(ended)


def _since_midnight(at: datetime) -> timedelta:
    """In real time: on the day that clocks go back there are two half past twos, and the first one is meant."""
    midnight = datetime.combine(at.date(), datetime.min.time(), OSLO)
    return at.astimezone(UTC) - midnight.astimezone(UTC)


def _check_what_happened(record: list[DeliveryResult]) -> None:
    by_source: dict[str, list[str]] = {name: [] for name in SOURCES}
    whole = []
    for event in sorted((event for notice in record for event in notice["events"]), key=lambda event: event["at"]):
        if event["source"]:
            by_source[event["source"]].append(event["kind"])
        elif event["kind"] != "round-ended":
            whole.append(event)
    for numbers, kinds in EXPECTED.items():
        for number in numbers:
            assert by_source[SOURCES[number]] == kinds, SOURCES[number]
    for number in _EDITED:
        assert by_source[SOURCES[number]] == ["new"] + ["changed"] * _edits(number, NIGHTS)
    assert [event["kind"] for event in whole] == [
        "service-started",
        "service-stopped",
        "service-started",
        *("channel-failing", "well-again"),  # the web server, for a night
        *("channel-failing", "channel-failing", "well-again"),  # the mail relay, for two
        "service-died",
        "service-started",
        "estate-refused",
        "estate-accepted",
        "service-stopped",
        "collecting-missed",  # a night without a service
        "service-started",
        "service-stopped",
    ]
    assert "interrupted: round 2" in whole[8]["message"]


def _check_times(received: Mapping[str, list[DeliveryResult]]) -> None:
    assert len(received["week"]) == 5
    for notice in received["week"]:
        at = _local(notice["at"])
        assert (at.weekday(), at.hour) == (0, 8)
        assert at.minute <= 15, "the service looks every quarter of an hour here"
    assert all(_local(notice["at"]).hour >= 7 for notice in received["pager"])
    at_night = [one for one in received["evenings"] if time(0, 45) < _local(one["at"]).time() < time(12)]
    assert [one["at"] for one in at_night] == [], "what happened in the morning waited for the channel's hours"
    families = [one["text"] for one in received["week"] if "the same on 16 sources" in one["text"]]
    assert len(families) == 1, "the same edit on many sources is told once"


def _check_mail(relay: Pennant, letters: list[Letter]) -> None:
    """The one recipient that there is got every letter once, in spite of two days in which it was to be tried later."""
    assert set(relay.recipients) == {("one@brackwater.example",)}
    assert Counter(str(letter["Message-ID"]) for letter in relay.letters) == Counter(letter.mark for letter in letters)
    assert Counter(str(letter["Subject"]) for letter in relay.letters) == Counter(letter.subject for letter in letters)
