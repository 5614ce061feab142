"""The judge: looks at what the program wrote and said after each night, and holds it against the truth.

It shares nothing with the program but documents: the store's format, the JSON, the metrics, and what is reported.
"""

import json
import re
import urllib.request
from collections import Counter, defaultdict
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from datetime import datetime, timedelta
from email import message_from_bytes
from email.policy import default
from pathlib import Path
from typing import Any, Protocol

from year.ledger import Ledger, VersionRow, Visit, reading
from year.telling import Known
from year.truth import BAD, GOOD, Arrival, Export, Finding, Night, Wanted, staying

__all__ = ["Judge", "Witness"]

_AGEING = 0.8
_OFTEN = 3  # more of one kind about the estate in a night is nobody's wish
_NEAR = timedelta(minutes=50)  # how near to a limit an age may be on either side of it
_KILLED = {  # of which trigger the round was that ended with the process
    "killed at a step": "timetable",
    "killed at a turn": "timetable",
    "killed, and down until noon": "timetable",
    "killed while collecting by hand": "hand",
}
_SECRET = re.compile(rb"pw-canary-|harbour-light|signal-flag")
_DEFECT = re.compile(rb"Traceback|a defect in Historon")
_FILES = {"ledger.sqlite", "ledger.sqlite-wal", "ledger.sqlite-shm", "reserve", "spool", "writing"}
_CLOCK_KNOWN = 2  # days, after which rounds have shown again what time it is
_ALWAYS = {
    *("service-started", "service-stopped", "round-ended", "all-well", "skipped", "resumed"),
    *("known-again", "well-again"),
}
_ABOUT_ESTATE = {
    "collecting-blocked",
    "collecting-again",
    "store-trouble",
    "disk-low",
    "disk-well",
    "estate-refused",
    "estate-accepted",
    "estate-changed",
    "sources-missing",
    "collecting-missed",
    "service-died",
    "copy-behind",
    "copy-well",
    "copy-refused",
    "copy-damaged",
    "store-damaged",
    "store-verified",
}


_Key = tuple[str, str | None, str, int | None, str]


def _key(event: Mapping[str, Any]) -> _Key:
    """What tells one event from another."""
    about = event["message"] if event["source"] is None else ""  # two copies may be reported at one instant
    return event["kind"], event["source"], event["at"], event["version"], about


class Witness(Protocol):
    """How the judge asks the program: a command at this moment, and what is there to be seen."""

    home: Path

    def ask(self, *arguments: str) -> tuple[int, str, str]:
        """Exit code, output and errors of a command."""
        ...

    def alive(self) -> tuple[int, int] | None:
        """The service's process and the port on which it answers; None while it does not run."""
        ...


@dataclass
class _Source:
    """What the judge knows of one source."""

    number: int = 0  # of its last version
    good: int | None = None
    parts: Export | None = None  # of the last good version
    state: object = None  # the true one behind it; None where a fault made it
    spoiled_by: tuple[str, ...] = ()  # which one
    outcome: str = ""
    confirmed: datetime | None = None
    queue: list[Arrival] = field(default_factory=list)
    versions: dict[int, Export] = field(default_factory=dict)
    rows: dict[int, VersionRow] = field(default_factory=dict)
    known: Known = field(default_factory=Known)
    changes: int = 0  # not reported yet
    bad_since: datetime | None = None
    overdue_told: bool = False

    def note(self, visit: Visit) -> None:
        """The last try, and since when it goes wrong; to be skipped is none."""
        if visit.outcome == "skipped":
            return
        self.outcome = visit.outcome
        self.bad_since = (self.bad_since or visit.at) if visit.outcome in BAD else None


class Judge:
    """Judges one year; `findings` are what it found, `visits` how many source-nights it looked at."""

    def __init__(self, witness: Witness, letters: Path, limits: Mapping[str, timedelta]) -> None:
        """`limits` has each source with its max_age."""
        self.findings: list[Finding] = []
        self.visits = 0
        self.readings: list[tuple[int, int, int]] = []  # memory in kB, open files, threads
        self._witness = witness
        self._outside = letters
        self._limits = limits
        self._sources = {name: _Source() for name in limits}
        self._round = 0
        self._seen = Counter[str]()  # how much of each file was read
        self._told: set[_Key] = set()
        self._untold_posts = Counter[_Key]()
        self._unwritten: list[tuple[str, str]] = []
        self._letters: set[str] = set()
        self._last_told: dict[str, int] = {}
        self._wrong_clock = -99  # the day
        self._sure_from = 0
        self._removed: set[tuple[str, int]] = set()
        self._removed_at: list[tuple[str, int, datetime]] = []
        self._night: Night

    # ---- one night -----------------------------------------------------------------------------------------

    def judge(self, night: Night, now: datetime) -> None:
        """Look at everything, at the noon after a night."""
        self._night = night
        self._now = now
        for name, wanted in night.wanted.items():
            self._sources[name].queue += wanted.arrivals or ()
        with reading(self._witness.home / "store") as ledger:
            visits = self._judge_visits(ledger)
            self._judge_old_versions(ledger)
            self._judge_removed(ledger)
        events = self._new_events()
        self._judge_events(events, visits)
        self._judge_calm()
        self._judge_sign_of_life(visits)
        self._judge_posts(events)
        self._judge_letters(events)
        if not night.unsure:
            self._judge_status()
            self._judge_metrics()
        self._judge_places()
        self._judge_texts()

    def judge_end(self) -> None:
        """At the end of the year: the service does not grow any more. What it needs it has in the first weeks."""
        if len(self.readings) < 45:
            return
        third = len(self.readings) // 3
        thirds = [self.readings[at : at + third] for at in (0, third, 2 * third)]
        for which, name, more in ((0, "memory in kB", 30_000), (1, "open files", 4), (2, "threads", 2)):
            first, middle, last = (sorted(one[which] for one in part)[third // 2] for part in thirds)
            if last > middle + more and middle > first + more // 2:
                self._find("growing", "the service", f"{name}: {first}, {middle}, {last} in the thirds of the year")

    def last_good(self, name: str) -> tuple[int | None, Export]:
        """The last good version of a source, as the judge knows it."""
        return self._sources[name].good, self._sources[name].parts or {}

    def damage_in(self, store: Path) -> str:
        """What keeps a version of a store from being read, by the documented format alone; empty where all can be."""
        with reading(store) as ledger:
            for name in self._sources:
                for one in ledger.versions(name):
                    try:
                        ledger.parts(name, one.number)
                    except Exception as exc:
                        return f"{name}@{one.number}: {type(exc).__name__}: {exc}"
        return ""

    def was_told(self, kind: str, since: int) -> bool:
        """Whether something about the estate was reported on this day or later."""
        return self._last_told.get(kind, -1) >= since

    def waits(self, name: str) -> bool:
        """Whether something that arrived is still to be taken."""
        return bool(self._sources[name].queue)

    def _find(self, mistake: str, subject: str, words: str) -> None:
        kinds = [*self._night.kinds, *(self._night.wanted[subject].kinds if subject in self._night.wanted else ())]
        self.findings.append(Finding(self._night.day, mistake, subject, words, tuple(kinds)))

    # ---- what was collected --------------------------------------------------------------------------------

    def _judge_visits(self, ledger: Ledger) -> list[Visit]:
        visits = [visit for visit in ledger.visits(self._round) if not _was_cut(visit)]
        self._round = ledger.last_round()
        by_source: defaultdict[str, list[Visit]] = defaultdict(list)
        for visit in visits:
            by_source[visit.source].append(visit)
        rows = ledger.sources()
        for name, source in self._sources.items():
            wanted = self._night.wanted[name]
            self._judge_count(name, by_source[name])
            new = ledger.versions(name, source.number)
            contents = {one.number: self._read(ledger, name, one.number) for one in new}
            if wanted.arrivals is None:
                self._judge_fetched(name, wanted, by_source[name], new, contents)
            else:
                self._judge_arrived(name, wanted, by_source[name], new, contents)
            source.number = max([source.number, *contents])
            source.versions |= contents
            source.rows |= {one.number: one for one in new}
            found = rows[name].good if name in rows else None
            if found != source.good:
                self._find("loss", name, f"the last good version is @{found}, and should be @{source.good}")
                source.good = found
        self.visits += len(visits)
        return visits

    def _read(self, ledger: Ledger, name: str, number: int) -> Export:
        try:
            return ledger.parts(name, number)
        except Exception as exc:
            self._find("loss", name, f"@{number} cannot be read: {exc!r}")
            return {}

    def _judge_count(self, name: str, visits: Sequence[Visit]) -> None:
        """By the timetable so often, and by hand where somebody did so."""
        counts = Counter(visit.trigger for visit in visits)
        least, most = self._night.visits
        most += self._killed and self._night.wanted[name].arrivals is not None  # of several exports some were taken
        if not least <= counts["timetable"] <= most:
            mistake = "missed" if counts["timetable"] < least else "double"
            self._find(mistake, name, f"visited {counts['timetable']} times by the timetable")
        if counts["hand"] and name not in self._night.by_hand:
            self._find("double", name, "visited by hand")

    def _judge_fetched(
        self,
        name: str,
        wanted: Wanted,
        visits: Sequence[Visit],
        new: Sequence[VersionRow],
        contents: Mapping[int, Export],
    ) -> None:
        source = self._sources[name]
        states = Counter(one.state for one in new)
        outcomes = Counter[str]()
        for visit in visits:
            outcomes[visit.outcome] += 1
            self._judge_outcome(name, self._allowed(source, wanted), visit)
            source.note(visit)
            if visit.outcome in GOOD:
                source.confirmed = visit.at
            if visit.outcome in ("new", "changed"):
                source.good, source.parts = visit.version, contents.get(visit.version or 0, {})
                source.state = wanted.state if not wanted.may else None
                source.spoiled_by = wanted.kinds if wanted.may else ()
            elif visit.outcome == "unchanged":
                self._take_noise(source, new, contents)
                source.state = wanted.state if not wanted.may else None
        for one in new:
            if contents[one.number] != wanted.parts and not (wanted.unseen and one.state == "suspect"):
                self._find("loss", name, f"@{one.number} is not what the source gave")
        if states["good"] != outcomes["new"] + outcomes["changed"]:
            self._find("double" if states["good"] > 1 else "loss", name, f"{dict(states)} after {dict(outcomes)}")
        if states["suspect"] > outcomes["suspect"] or states["noise"] > outcomes["unchanged"]:
            self._find("double", name, f"{dict(states)} after {dict(outcomes)}")

    @staticmethod
    def _take_noise(source: _Source, new: Sequence[VersionRow], contents: Mapping[int, Export]) -> None:
        """One that differs by noise alone takes the last good one's place."""
        for one in new:
            if one.state == "noise":
                source.good, source.parts = one.number, contents[one.number]

    @staticmethod
    def _allowed(source: _Source, wanted: Wanted) -> frozenset[str]:
        if wanted.may:
            # What was taken for good once, though a fault made it, is the same in the next night but for noise.
            same = "changed" in wanted.may and wanted.kinds == source.spoiled_by
            return wanted.may | {"unchanged"} if same else wanted.may
        if source.good is None:
            return frozenset({"new"})
        if wanted.parts == source.parts or (source.state is not None and wanted.like(source.state)):
            return frozenset({"unchanged"})
        # After something that was taken for good though a fault made it, even a whole export may look shrunken.
        return frozenset({"changed"}) if source.state is not None else frozenset({"changed", "suspect"})

    def _judge_outcome(self, name: str, allowed: frozenset[str], visit: Visit) -> None:
        if visit.outcome in allowed or (self._night.blocked and visit.outcome == "failed"):
            return
        words = f"{visit.outcome} where it should be {' or '.join(sorted(allowed))}; {visit.note[:200]}"
        if visit.outcome in GOOD and (allowed <= BAD or visit.outcome == "unchanged"):
            self._find("false all-clear", name, words)
        else:
            self._find("false alarm", name, words)

    def _judge_arrived(
        self,
        name: str,
        wanted: Wanted,
        visits: Sequence[Visit],
        new: Sequence[VersionRow],
        contents: Mapping[int, Export],
    ) -> None:
        source = self._sources[name]
        if not visits:
            if new:
                self._find("double", name, "versions without a visit")
            return
        came, left = len(source.queue), list(new)
        allowed = GOOD if source.queue else frozenset({"skipped"})
        while source.queue:
            arrival = source.queue[0]
            allowed = GOOD if arrival.good else frozenset({"suspect"})
            if source.parts is not None and [*source.parts.values()] == [arrival.content]:
                source.confirmed = max(source.confirmed or arrival.at, arrival.at)
            elif left:
                self._judge_taken(name, left.pop(0), arrival, contents)
            else:
                break
            source.queue.pop(0)
        if source.queue and not self._night.blocked:
            self._find(
                "loss", name, f"{came - len(source.queue)} of {came} that came were taken; {visits[-1].note[:200]}"
            )
        if left:
            self._find("double", name, f"{len(new)} versions of {came} that came")
        allowed |= wanted.may or frozenset()
        for visit in visits:
            self._judge_outcome(name, allowed | {"skipped"} if len(visits) > 1 else allowed, visit)
            source.note(visit)

    def _judge_taken(self, name: str, one: VersionRow, arrival: Arrival, contents: Mapping[int, Export]) -> None:
        source = self._sources[name]
        if list(contents[one.number].values()) != [arrival.content]:
            self._find("loss", name, f"@{one.number} is not the export that came at {arrival.at}")
        if (one.state != "suspect") is not arrival.good:
            self._find("false alarm" if arrival.good else "false all-clear", name, f"@{one.number} is {one.state}")
        self._judge_instant(name, one, arrival, source.confirmed)
        if one.state != "suspect":
            source.good, source.parts, source.confirmed = one.number, contents[one.number], one.at

    def _judge_instant(self, name: str, one: VersionRow, arrival: Arrival, before: datetime | None) -> None:
        if before is not None and one.at <= before:
            self._find("loss", name, f"@{one.number} is not later than the version before")
        late = abs(one.at - arrival.at) > timedelta(minutes=1) and (before is None or arrival.at > before)
        if late and not self._night.unsure:
            self._find("loss", name, f"@{one.number} is of {one.at}, and came at {arrival.at}")

    def _judge_old_versions(self, ledger: Ledger) -> None:
        """What was there still is, byte for byte: each source once a week, and all that is known of it."""
        removed = ledger.removed()
        for index, (name, source) in enumerate(self._sources.items()):
            if index % 7 != self._night.day % 7:
                continue
            there = {one.number for one in ledger.versions(name)}
            gone = source.versions.keys() - there
            if lost := [number for number in gone if (name, number) not in removed]:
                self._find("loss", name, f"versions {lost} are gone")
            source.versions = {number: parts for number, parts in source.versions.items() if number in there}
            for number, parts in source.versions.items():
                if self._read(ledger, name, number) != parts:
                    self._find("loss", name, f"@{number} is not what it was")

    def _judge_removed(self, ledger: Ledger) -> None:
        """No version was removed that the estate's retention keeps; by the rules as they are written, and own sums."""
        new = [one for one in ledger.removals() if one[:2] not in self._removed]
        for name, number, _, gone in new:
            rows = self._sources[name].rows
            before = {each[1] for each in self._removed_at if each[0] == name and each[2] < gone}
            there = [(one.number, one.at, one.state) for _, one in sorted(rows.items()) if one.number not in before]
            if number in staying([one for one in there if one[1] <= gone], gone):
                self._find("loss", name, f"@{number} was removed at {gone}, and was to stay")
        self._removed |= {one[:2] for one in new}
        self._removed_at += [(name, number, gone) for name, number, _, gone in new]

    def judge_files(self, folder: Path) -> None:
        """Every good version that is there lies in a copy of plain files, byte for byte, and nothing else does."""
        with reading(self._witness.home / "store") as ledger:
            there = {
                (name, one.number): one
                for name in self._sources
                for one in ledger.versions(name)
                if one.state != "suspect"
            }
        listed = (folder / "SHA256SUMS").read_text().splitlines() if (folder / "SHA256SUMS").is_file() else []
        folders = {"/".join(line[66:].split("/")[:2]) for line in listed}
        for (name, number), one in there.items():
            parts = self._sources[name].versions.get(number, {})
            instant = one.at.strftime("%Y-%m-%dT%H%M%S")
            places = [folder / name / f"{instant}Z", folder / name / f"{instant}_{number:06}Z"]
            if not any(all(_holds(place / part, content) for part, content in parts.items()) for place in places):
                self._find("loss", name, f"@{number} is not in the copy of plain files")
        if len(folders) != len(there):
            self._find("loss", "the copy", f"{len(folders)} versions lie there, and {len(there)} are good")

    # ---- what was reported -------------------------------------------------------------------------------------

    def _new_lines(self, file: Path) -> Iterator[Any]:
        lines = file.read_bytes().splitlines() if file.exists() else []
        for line in lines[self._seen[file.name] :]:
            yield json.loads(line)
        self._seen[file.name] = len(lines)

    def _new_events(self) -> list[dict[str, Any]]:
        """All that was reported on the channel that hears everything at once; nothing twice."""
        events = [
            event for notice in self._new_lines(self._witness.home / "record.jsonl") for event in notice["events"]
        ]
        heard = []
        if self._night.unsure:
            self._sure_from = self._night.day + 3  # by then its clock has passed what it showed before
        for event in events:
            key = _key(event)
            if key in self._told and self._killed:
                continue
            if key in self._told and event["kind"] != "round-ended" and self._night.day >= self._sure_from:
                self._find("double notice", event["source"] or "the estate", f"{event['kind']} of {event['at']}")
            self._told.add(key)
            heard.append(event)
        return heard

    def _judge_events(self, events: Sequence[dict[str, Any]], visits: Sequence[Visit]) -> None:
        by_source: defaultdict[str | None, list[dict[str, Any]]] = defaultdict(list)
        for event in events:
            by_source[event["source"]].append(event)
        self._judge_about_estate(by_source.pop(None, []))
        killed = {trigger for kind, trigger in _KILLED.items() if kind in self._night.kinds}
        for name, source in self._sources.items():
            own = by_source[name]
            mine = [visit for visit in visits if visit.source == name]
            for mistake, words in source.known.judge(mine, own, self._night.wanted[name].event, killed=killed):
                self._find(mistake, name, words)
            changed = sum(event["kind"] in ("changed", "new") for event in own)
            good = sum(one.outcome in ("changed", "new") for one in mine)
            source.changes += good - changed
            if self._night.wanted[name].arrivals is None and source.changes and not self._killed:
                self._find("missing notice", name, f"{changed} changes told of {good}")
                source.changes = 0
            self._judge_age(name, source, own)

    def _judge_age(self, name: str, source: _Source, events: Sequence[dict[str, Any]]) -> None:
        for event in events:
            if event["kind"] == "overdue":
                if source.overdue_told:
                    self._find("double notice", name, "overdue, once more")
                source.overdue_told = True
            elif event["kind"] == "fresh-again":
                source.overdue_told = False
        if source.confirmed is None or self._night.unsure:
            return
        age = self._now - source.confirmed
        limit = self._limits[name]
        if age > limit + _NEAR and not source.overdue_told and not self._night.down and not source.known.flapping:
            self._find("missing notice", name, f"overdue since {age - limit}, and nothing was told")
        if age < limit - _NEAR and source.overdue_told and not self._night.down and not source.known.flapping:
            self._find("false alarm", name, "told as overdue, and never as fresh again")

    def _judge_about_estate(self, events: Sequence[dict[str, Any]]) -> None:
        kinds = Counter(event["kind"] for event in events)
        self._last_told |= dict.fromkeys(kinds, self._night.day)
        for kind in kinds.keys() & _ABOUT_ESTATE:
            if kinds[kind] > _OFTEN:
                self._find("double notice", "the estate", f"{kind} was told {kinds[kind]} times in a night")
        for wanted in self._night.must:
            if not wanted & kinds.keys():
                self._find("false all-clear", "the estate", f"{' or '.join(sorted(wanted))} was not told")
        allowed = set().union(*self._night.must, self._night.may, _ALWAYS)
        if self._night.kinds:
            allowed |= {
                "timetable-missed",
                "collecting-missed",
                "channel-failing",
            }  # where nobody could come to a source, or be notified
        if self._night.unsure:
            self._wrong_clock = self._night.day
        if self._night.day - self._wrong_clock <= _CLOCK_KNOWN:
            allowed.add("clock-doubtful")  # the last round is in the future, or far away, until there is another
        if more := kinds.keys() - allowed:
            told = [f"{event['kind']}: {event['message']}" for event in events if event["kind"] in more]
            self._find("false alarm", "the estate", "; ".join(told)[:400])

    def _judge_calm(self) -> None:
        """That all is well is only reported while no source is known to be amiss all the time."""
        lines = [*self._new_lines(self._witness.home / "calm.jsonl")]
        bad = [
            name for name, source in self._sources.items() if source.bad_since and source.bad_since < self._night.noon
        ]
        if bad and any(event["kind"] == "all-well" for notice in lines for event in notice["events"]):
            self._find("false all-clear", "the estate", f"all is well, it was told, while {bad[0]} was not")

    def _judge_sign_of_life(self, visits: Sequence[Visit]) -> None:
        """It is given after a round in which nothing went wrong, and after no other."""
        beats = len([*self._outside.glob("*.beat")])
        given, self._seen["beats"] = beats - self._seen["beats"], beats
        mine = [visit for visit in visits if visit.trigger == "timetable"]
        if len({visit.round for visit in mine}) != 1 or self._killed or self._night.blocked or self._night.by_hand:
            return
        bad = [visit.source for visit in mine if visit.outcome in BAD]
        if bad and given:
            self._find("false all-clear", bad[0], "a sign of life was given after a round in which it went wrong")
        # It is not given either while something else is open: a copy, a channel, a source that was not visited.
        amiss = self._night.kinds or self._night.copies or any(one.bad_since for one in self._sources.values())
        if not bad and not given and not self._night.down and not amiss:
            self._find("false alarm", "the estate", "no sign of life was given after a round in which all went well")

    def _judge_posts(self, events: Sequence[dict[str, Any]]) -> None:
        """What the web server was to hear it hears once, as soon as it takes anything."""
        self._untold_posts.update(_key(event) for event in events if event["kind"] not in _ALWAYS | {"new"})
        files = sorted(self._outside.glob("*.json"))
        for file in files[self._seen["posts"] :]:
            for event in json.loads(file.read_bytes())["events"]:
                if event["kind"] not in _ALWAYS | {"new"}:
                    self._untold_posts[_key(event)] -= 1
        self._seen["posts"] = len(files)
        doubles = [key for key, count in self._untold_posts.items() if count < 0]
        missing = [key for key, count in self._untold_posts.items() if count > 0]
        for kind, name, at, _, _ in doubles:
            if not self._killed:
                self._find("double notice", name or "the estate", f"{kind} of {at} was posted twice")
        if not self._night.post_later and not self._night.down:
            for kind, name, at, _, _ in missing:
                self._find("missing notice", name or "the estate", f"{kind} of {at} was not posted")
            missing = []
        self._untold_posts = Counter(missing)

    @property
    def _killed(self) -> bool:
        """What was sent, and not yet noted when the process died, may be sent again: docs/reliability.md says so."""
        return any("killed" in kind for kind in self._night.kinds)

    def _judge_letters(self, events: Sequence[dict[str, Any]]) -> None:
        """The operators' letters name everything that went wrong."""
        self._unwritten += [
            (event["kind"], event["source"])
            for event in events
            if event["source"] and event["kind"] in ("failing", "suspect", "identity-changed", "not-resumed", "changed")
        ]
        files = sorted(self._outside.glob("*.eml"))
        for file in files[self._seen["letters"] :]:
            letter = message_from_bytes(file.read_bytes(), policy=default)
            mark = str(letter["Message-ID"])
            if mark in self._letters and not self._killed:
                self._find("double notice", "the operators", f"letter {mark} came twice")
            self._letters.add(mark)
            body = letter.get_body(("plain",))
            text = body.get_content() if body else ""
            self._unwritten = [(kind, name) for kind, name in self._unwritten if name not in text]
        self._seen["letters"] = len(files)
        if not self._night.mail_later and not self._night.down:
            for kind, name in self._unwritten:
                self._find("missing notice", name, f"no letter says that it is {kind}")
            self._unwritten = []

    # ---- what is shown -------------------------------------------------------------------------------------

    def _age_of(self, name: str, source: _Source) -> str | None:
        """What `status` should call its age; None where that is too near to a limit."""
        if source.confirmed is None:
            return "never"
        age, limit = self._now - source.confirmed, self._limits[name]
        if any(abs(age - one) < _NEAR for one in (limit, limit * _AGEING)):
            return None
        return "overdue" if age > limit else "ageing" if age > limit * _AGEING else "fresh"

    def _judge_status(self) -> None:
        code, out, err = self._witness.ask("status", "--json")
        try:
            data = json.loads(out)
        except ValueError:
            self._find("defect", "status", f"{code}: {err[-300:]}")
            return
        rows = {row["source"]: row for row in data["rows"]}
        kinds = {one["kind"] for one in data["conditions"]}
        copies = [one["words"] for one in data["conditions"] if one["kind"].startswith("copy-")]
        if copies and not self._night.copies:
            self._find("false alarm", "the copies", f"status says {copies}")
        wrong = bool(kinds)
        for name, source in self._sources.items():
            row, age = rows[name], self._age_of(name, source)
            if (row["last_outcome"], row["version"]) != (source.outcome or None, source.good):
                said = f"{row['last_outcome']}, @{row['version']}"
                self._find("false all-clear", name, f"status says {said}; it was {source.outcome}, @{source.good}")
            if age is not None and row["age"] != age:
                mistake = "false all-clear" if age in ("overdue", "never") else "false alarm"
                self._find(mistake, name, f"status says {row['age']}, and it is {age}")
            wrong |= source.outcome in BAD or row["age"] in ("overdue", "never")
        if code != int(wrong):
            self._find("false all-clear" if wrong else "false alarm", "the estate", f"status ends with {code}")
        self.ages = Counter(row["age"] for row in rows.values())
        self._judge_answers({(one["kind"], one["subject"]) for one in data["conditions"]})

    def _judge_answers(self, conditions: set[tuple[str, str]]) -> None:
        """What status has open, and nothing else, is open in every other answer; doctor is asked once a week."""
        asked = ["notices", "doctor"] if self._night.day % 7 == 0 else ["notices"]
        for command in asked:
            code, out, err = self._witness.ask(command, "--json")
            try:
                data = json.loads(out)
            except ValueError:
                self._find("defect", command, f"{code}: {err[-300:]}")
                continue
            if command == "notices":
                said = {(one["kind"], one["subject"]) for one in data["conditions"]}
                if said != conditions:
                    self._find("false all-clear", command, f"{said ^ conditions} is open in one of two answers")
            elif missing := {about for _, about in conditions} - {row["about"] for row in data["rows"]}:
                self._find("false all-clear", command, f"it says nothing of {missing}, which is open")

    def _judge_metrics(self) -> None:
        alive = self._witness.alive()
        if alive is None:
            if not self._night.down:
                self._find("defect", "the service", "it does not run")
            return
        pid, port = alive
        text = _fetched(f"http://127.0.0.1:{port}/metrics")
        shown = {
            name: int(float(value)) for name, value in re.findall(r'historon_sources\{age="([^"]+)"\} (\S+)', text)
        }
        # It looks every quarter of an hour: what gets older by itself meanwhile is not in it yet.
        if any(shown.get(age, 0) != self.ages[age] for age in ("overdue", "never")):
            self._find("false all-clear", "metrics", f"{shown} where status says {dict(self.ages)}")
        status = Path(f"/proc/{pid}/status").read_text()
        memory, threads = (
            int(re.findall(rf"^{what}:\s+(\d+)", status, re.MULTILINE)[0]) for what in ("VmRSS", "Threads")
        )
        if gone := [led for path in Path(f"/proc/{pid}/fd").iterdir() if "(deleted)" in (led := _leads_to(path))]:
            self._find("growing", "the service", f"open, and no more: {', '.join(gone)}")
        self.readings.append((memory, len([*Path(f"/proc/{pid}/fd").iterdir()]), threads))

    # ---- what lies about -----------------------------------------------------------------------------------

    def _judge_places(self) -> None:
        store = self._witness.home / "store"
        strange = {path.name for path in store.iterdir()} - _FILES
        spooled = [*(store / "spool").iterdir()] if (store / "spool").exists() else []
        if strange or spooled:
            self._find("left over", "the store", f"{strange} {spooled}")

    def _judge_texts(self) -> None:
        """No secret in anything that was written or sent, and no defect."""
        home = self._witness.home
        for file in (home.parent / "log", home / "record.jsonl", home / "calm.jsonl"):
            if file.exists():
                data = file.read_bytes()
                self.judge_text(file.name, data[self._seen[f"text {file.name}"] :])
                self._seen[f"text {file.name}"] = len(data)
        for kind in ("eml", "json"):
            files = sorted(self._outside.glob(f"*.{kind}"))
            for file in files[self._seen[f"texts {kind}"] :]:
                data = file.read_bytes()
                text = message_from_bytes(data, policy=default).as_bytes() if kind == "eml" else data
                self.judge_text(file.name, text + _bodies(data) if kind == "eml" else text)
            self._seen[f"texts {kind}"] = len(files)

    def judge_text(self, where: str, text: bytes) -> None:
        """Something that somebody may read."""
        if found := _SECRET.search(text):
            near = text[max(0, found.start() - 150) : found.end() + 20]
            self._find("secret", where, repr(near))
        if found := _DEFECT.search(text):
            self._find("defect", where, text[found.start() : found.start() + 600].decode("utf-8", "replace"))


def _holds(file: Path, content: bytes) -> bool:
    return file.is_file() and file.read_bytes() == content


def _was_cut(visit: Visit) -> bool:
    """Whether a round was ended before it came to the source, which is no visit."""
    return visit.outcome == "skipped" and visit.note.startswith("the round was interrupted")


def _leads_to(path: Path) -> str:
    try:
        return str(path.readlink())
    except OSError:
        return ""


def _bodies(letter: bytes) -> bytes:
    parts = message_from_bytes(letter, policy=default).walk()
    payloads = (part.get_payload(decode=True) for part in parts if not part.is_multipart())
    return b"\n".join(payload for payload in payloads if isinstance(payload, bytes))


def _fetched(url: str) -> str:
    try:
        with urllib.request.urlopen(url, timeout=60) as answer:
            return str(answer.read().decode())
    except OSError as exc:
        return str(exc)
