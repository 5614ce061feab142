"""A year is played: day by day the world turns, faults begin and end, the program runs, and what it did is judged."""

import random
import signal
import socket
from collections import Counter
from collections.abc import Callable, Sequence
from contextlib import suppress
from copy import deepcopy
from dataclasses import dataclass, field, replace
from datetime import UTC, datetime, time, timedelta
from functools import partial
from pathlib import Path
from zoneinfo import ZoneInfo

from tests.leaping import fast_folder

from historon.store import FolderStore
from year.devices import PASSWORD, USER, Devices
from year.faults import Disturbance, Spoiled, arrivals, connections, exports, levels, machine, workbench
from year.judge import Judge
from year.outside import OPERATOR, Outside
from year.program import NOT_ARMED, EndedError, Program
from year.sources import Offer, Source, made_sources
from year.texts import Model
from year.truth import Finding, Night, Wanted

__all__ = ["KINDS", "Entry", "Play", "Result", "Script", "play", "written"]

ZONE = ZoneInfo("Europe/Oslo")
START = datetime(2025, 3, 1, 12, tzinfo=ZONE)  # a year of the past: files bear the real time of their change, too
_DAY = timedelta(days=1)
_ESTATE_REFUSED = 4  # docs/exit-codes.md
_RESTART = timedelta(minutes=3)  # until whoever looks after services starts one again that died
_PAIRED = 0.3  # of the disturbances have another one beside them

SPOILED = {one.kind: one for one in (*exports.FAULTS, *connections.FAULTS)}
_WRONG = machine.EstateWrong.kind
ARRIVING = {one.kind: one for one in arrivals.FAULTS}
DISTURBING = {one.kind: one for one in (*machine.DISTURBANCES, *workbench.DISTURBANCES, *levels.DISTURBANCES)}
KINDS = [*SPOILED, *ARRIVING, *DISTURBING]


@dataclass(frozen=True)
class Entry:
    """A fault of the script: from the noon of this day, for so many nights, of this source or of the machine."""

    day: int
    nights: int
    kind: str
    source: str = ""


@dataclass(frozen=True)
class Script:
    """All that makes a year what it is: the same script plays the same year. Sources go by their numbers."""

    seed: str
    days: int
    sources: tuple[int, ...]
    entries: tuple[Entry, ...]


@dataclass
class Result:
    """What came of it; `injected` counts the faults of each kind that were at work."""

    findings: list[Finding]
    injected: Counter[str]
    visits: int
    readings: list[tuple[int, int, int]] = field(default_factory=list)


def written(seed: str, days: int, sources: int, *, dense: float = 1.0) -> Script:
    """A script by chance. A source has a fault about every six weeks, the surroundings one every few days."""
    rng = random.Random(f"{seed}/script")
    entries = []
    numbers = sorted(rng.sample(range(60), sources)) if sources < 60 else range(sources)
    for source in made_sources(Path(), seed, numbers):
        own = random.Random(f"{seed}/{source.name}/faults")
        fitting: list[str] = [one.kind for one in SPOILED.values() if one.fits(source)]
        fitting += [one.kind for one in ARRIVING.values() if one.fits(source)]
        day = own.randrange(2, 8)
        while day < days - 2 and fitting:
            kind = own.choice(fitting)
            nights = own.randint(*SPOILED[kind].nights) if kind in SPOILED else 1
            if own.random() < 0.06:
                nights += own.randrange(3, 9)  # now and then one lasts
            entries.append(Entry(day, nights if kind in SPOILED else 1, kind, source.name))
            day += nights + 1 + int(own.expovariate(dense / 30))
    day = 4
    while day < days - 2:
        kind = rng.choice([*DISTURBING])
        entries.append(Entry(day, DISTURBING[kind].nights, kind))
        beside = rng.choice([one.kind for one in DISTURBING.values() if one.mild and one.kind != kind])
        if rng.random() < _PAIRED:
            entries.append(Entry(day, 1, beside))
        day += DISTURBING[kind].nights + 1 + int(rng.expovariate(dense / 2.5))
    entries.sort(key=lambda one: (one.day, one.source, one.kind))
    return Script(seed, days, tuple(numbers), tuple(entries))


class Play:
    """One year in the middle of being played; disturbances reach into it."""

    def __init__(
        self, script: Script, folder: Path, broken: Sequence[str], told: Callable[[str], None], *, stop_at_first: bool
    ) -> None:
        self.script = script
        self._told = told
        self._stop_at_first = stop_at_first
        self.home = folder / "estate"
        (self.home / "keys").mkdir(parents=True)
        self.outside = Outside(folder / "outside")
        self.outside.start()
        self.devices = Devices()
        self.sources = {one.name: one for one in made_sources(self.home, script.seed, script.sources)}
        for source in self.sources.values():
            self._settle(source, folder / "devices" / source.name)
        self.program = Program(self.home, self.devices, _free_port(), broken)
        self.now = START.astimezone(UTC)
        self.night = Night(0, self.now)
        self.text = self._estate_text()
        self._write_estate()
        FolderStore.create(self.home / "store").close()
        self.judge = Judge(self, self.outside.folder, {one.name: one.max_age for one in self.sources.values()})
        self.injected = Counter[str]()
        self._findings = 0  # that were reported
        self._active: list[tuple[Entry, Disturbance]] = []
        self.put_off: list[Callable[[], None]] = []

    def _settle(self, source: Source, folder: Path) -> None:
        if source.post.transport in ("ssh-shell", "telnet", "ssh-exec", "https", "netconf"):
            source.device = self.devices.add(source.name, source.post.transport, _free_port(), folder)
        source.settle()

    # ---- for disturbances, and the judge ---------------------------------------------------------------------

    def ask(self, *arguments: str) -> tuple[int, str, str]:
        """See Witness."""
        said = self.program.command(arguments, self.now)
        self.judge.judge_text(f"historon {' '.join(arguments)}", (said.out + said.err).encode())
        return said.code, said.out, said.err

    def alive(self) -> tuple[int, int] | None:
        """See Witness."""
        return (self.program.pid, self.program.health_port) if self.program.runs else None

    def at(self, clock: time) -> datetime:
        """An instant of the coming night, or of this day's afternoon."""
        day = self.now.astimezone(ZONE).date()
        if clock.hour < 12 and self.now.astimezone(ZONE).hour >= 12:
            day += _DAY
        return datetime.combine(day, clock, ZONE).astimezone(UTC)

    def begin_service(self) -> None:
        """Start the service now, unless it runs."""
        if not self.program.runs:
            self.program.begin(self.now)

    def end_service(self) -> None:
        """Ask it to end."""
        if self.program.runs and (code := self.program.end()) != 0:
            self.find("defect", "the service", f"it ended with {code}")

    def find(self, mistake: str, subject: str, words: str) -> None:
        """A finding that needs no judge."""
        self.judge.findings.append(Finding(self.night.day, mistake, subject, words, tuple(self.night.kinds)))

    def write_estate(self, text: str) -> None:
        """Another estate file."""
        (self.home / "historon.toml").write_text(text)

    def refuse(self, name: str, may: frozenset[str]) -> None:
        """In this night nothing but this may come of a source."""
        wanted = self.night.wanted[name]
        self.night.wanted[name] = replace(wanted, may=may, event="failing")

    def is_odd(self, code: int, *well: int) -> bool:
        """Whether a command may not end so now: not with one of these codes, nor for what is known to be amiss."""
        kinds = {one.kind for one, _ in self._active}
        return code not in well and not (code == 5 and self.night.blocked) and not (code == 4 and _WRONG in kinds)

    # ---- the days --------------------------------------------------------------------------------------------

    def run(self) -> None:
        """All days."""
        self._turn(0)
        self.begin_service()
        for day in range(self.script.days):
            if day:
                self._turn(day)
            self._go_on(self._stops())
            self.judge.judge(self.night, self.now)
            self._judge_copies()
            self._look_around()
            self._tell_progress(day)
            if self._stop_at_first and self.judge.findings:
                return
            self._end_faults(day)
        self.end_service()
        self.judge.judge_end()
        self._tell_findings()

    def _turn(self, day: int) -> None:
        """A new day: what there was of faults is over, others begin, the sources live on."""
        began = [one for one in self.script.entries if one.day == day and not one.source]
        self.night = Night(day, self.now)
        self.program.armed = NOT_ARMED
        self._active += [(one, DISTURBING[one.kind](day, random.Random(f"{self.script.seed}/{one}"))) for one in began]
        for entry, one in self._active:
            self.night.kinds.append(entry.kind)
            self.injected[entry.kind] += entry.day == day and not one.armed
        for source in self.sources.values():
            self._turn_source(source, day)
        put_off, self.put_off = self.put_off, []
        for act in put_off:
            act()
        for _, one in self._active:
            one.begin_night(self)

    def _turn_source(self, source: Source, day: int) -> None:
        rng = random.Random(f"{self.script.seed}/{source.name}/{day}")
        entries = [
            one for one in self.script.entries if one.source == source.name and one.day <= day < one.day + one.nights
        ]
        for entry in entries:
            self.injected[entry.kind] += entry.day == day
        source.live(rng)
        if source.arrives:
            self._let_arrive(source, rng, entries)
        else:
            self._let_be_fetched(source, entries)

    def _let_arrive(self, source: Source, rng: random.Random, entries: Sequence[Entry]) -> None:
        if not self.judge.waits(source.name):
            source.tidy_up()
        kinds = tuple(one.kind for one in entries)
        fault = ARRIVING[kinds[0]] if kinds else None
        came = (fault.come if fault else arrivals.push_as_usual)(source, rng, self.now)
        may = fault.may if fault else None
        self.night.wanted[source.name] = Wanted(may=may, arrivals=came, kinds=kinds)

    def _let_be_fetched(self, source: Source, entries: Sequence[Entry]) -> None:
        offer, may, event, whole = Offer(source.truth()), frozenset[str](), "", True
        for entry in entries:
            spoiled: Spoiled = SPOILED[entry.kind]
            # The same each night, as a device that is broken is broken in one way.
            offer = spoiled.spoil(offer, source, random.Random(f"{self.script.seed}/{entry}"))
            may, event = may | spoiled.may, event or spoiled.event
            whole = whole and not spoiled.may
        source.put(offer)
        model = deepcopy(source.model)
        self.night.wanted[source.name] = Wanted(
            offer.parts,
            model,
            partial(_alike, source),
            None if whole else may,
            event,
            None,
            tuple(one.kind for one in entries),
            unseen=source.device is not None and bool(offer.mode),
        )

    def _stops(self) -> list[tuple[datetime, Callable[[], None]]]:
        stops = [stop for _, one in self._active for stop in one.stops(self)]
        stops.append((self.at(time(15)), self._look_at_services))
        noon = datetime.combine(self.now.astimezone(ZONE).date() + _DAY, time(12), ZONE).astimezone(UTC)
        return [*sorted(stops, key=lambda stop: stop[0]), (noon, lambda: None)]

    def _go_on(self, stops: Sequence[tuple[datetime, Callable[[], None]]]) -> None:
        for at, act in stops:
            while self.program.runs:
                try:
                    self.program.until(max(at, self.now))  # it may have been started again a moment later
                    break
                except EndedError as exc:
                    self.now = exc.at
                    self._died(exc)
            self.now = max(at, self.now)
            act()

    def _died(self, exc: EndedError) -> None:
        """Somebody starts it again, where it was killed on purpose; otherwise that is a finding."""
        if exc.code != -signal.SIGKILL or not any(one.deadly for _, one in self._active):
            self.find("defect", "the service", str(exc))
        self.injected.update(entry.kind for entry, one in self._active if one.armed)
        self.night.may |= {"service-died", "store-trouble"}
        self.now += _RESTART
        self.begin_service()

    def _tell_progress(self, day: int) -> None:
        """Each finding as it is made, and each month."""
        self._tell_findings()
        if (day + 1) % 30 == 0:
            self._told(f"{day + 1} days of {self.script.days}")

    def _tell_findings(self) -> None:
        for finding in self.judge.findings[self._findings :]:
            self._told(str(finding))
        self._findings = len(self.judge.findings)

    def _look_at_services(self) -> None:
        """What was left paused, and can be resumed again since noon, was resumed."""
        for name, source in self.sources.items():
            stuck = self.night.wanted[name].event == "not-resumed"
            if self.program.runs and not source.running and not stuck:
                self.find("false all-clear", name, "its service could be resumed for hours, and was not")

    def _look_around(self) -> None:
        """No service is left paused without a word, and what was taken was put away."""
        code, out, _ = (
            self.ask("status", "--json") if any(not one.running for one in self.sources.values()) else (0, "", "")
        )
        refused = self.night.unsure and code == _ESTATE_REFUSED  # of an estate file with a mistake nothing is reported
        for name, source in self.sources.items():
            said = refused or f'"{name}"' in out.partition('"rows"')[0]
            if not source.running and (code == 0 or not said):
                self.find("false all-clear", name, "its service is still paused, and nothing says so")
            if source.then_gone and not self.judge.waits(name) and (left := source.left_over()):
                self.find("left over", name, f"{sorted(left)[:3]} were taken and not put away")

    def _judge_copies(self) -> None:
        """Once a week the program's own word on its copies, and what lies in that of plain files, by eye."""
        if self.night.day % 7 == 6 and not self.night.copies and not self.night.unsure and not self.night.blocked:
            self.judge.judge_files(self.home.parent / "files")

    def _end_faults(self, day: int) -> None:
        over = [(entry, one) for entry, one in self._active if day + 1 >= entry.day + entry.nights]
        self._active = [pair for pair in self._active if pair not in over]
        for _, one in over:
            one.end(self)

    # ---- the estate ------------------------------------------------------------------------------------------

    def _write_estate(self) -> None:
        self.write_estate(self.text)
        web = f"http://127.0.0.1:{self.outside.web_port}"
        secrets = {"reader": PASSWORD, "mail": "signal-flag", "web": f"{web}/", "beat": f"{web}/beat"}
        for name, text in secrets.items():
            (self.home / "keys" / name).write_text(text)
            (self.home / "keys" / name).chmod(0o600)

    def _estate_text(self) -> str:
        sites = ("northmole", "saltgate", "eider")
        sources = "".join(
            one.described(f'{{ site = "{sites[index % 3]}" }}') for index, one in enumerate(self.sources.values())
        )
        return f"""
[estate]
name = "Brackwater Ferries"
time_zone = "Europe/Oslo"
heartbeat = "file:keys/beat"
[credentials.reader]
user = "{USER}"
password = "file:keys/reader"
[credentials.mail]
user = "historon"
password = "file:keys/mail"
[timetables.nightly]
at = "02:30"
spread = "40m"
[retention.standard]
all = "14d"
day = "60d"
week = "1y"
[defaults]
timetable = "nightly"
max_age = "30h"
retention = "standard"
[copies.second]
path = "../copy"
[copies.files]
kind = "folder"
path = "../files"
[copies.history]
kind = "git"
path = "../history.git"
[channels.record]
kind = "file"
path = "record.jsonl"
immediately = true
[channels.calm]
kind = "file"
path = "calm.jsonl"
tell = "critical"
all_well = "1d"
[channels.operators]
kind = "mail"
to = ["{OPERATOR}"]
from = "historon@brackwater.example"
server = "localhost"
port = {self.outside.mail_port}
credentials = "mail"
certificate = "{self.outside.certificate}"
tell = "changes"
[channels.chat]
kind = "webhook"
url = "file:keys/web"
tell = "changes"
except = ["new"]
{sources}"""


def _alike(source: Source, before: object) -> bool:
    return isinstance(before, Model) and source.means_the_same(before)


def _free_port() -> int:
    """A port that is free, and that no connection going out is given: it is listened on again and again."""
    while True:
        port = random.SystemRandom().randrange(10_000, 32_000)
        with socket.socket() as probe, suppress(OSError):
            probe.bind(("127.0.0.1", port))
            return port


def play(
    script: Script,
    broken: Sequence[str] = (),
    told: Callable[[str], None] = lambda _: None,
    *,
    stop_at_first: bool = False,
) -> Result:
    """Play a year; with `stop_at_first`, until something is found. `told` hears how far it has come."""
    with fast_folder() as folder:
        one = Play(script, folder, broken, told, stop_at_first=stop_at_first)
        try:
            one.run()
        finally:
            if one.program.runs:
                one.program.kill()
            one.outside.stop()
        return Result(one.judge.findings, one.injected, one.judge.visits, one.judge.readings)
