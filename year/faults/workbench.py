"""A small estate beside the year's: what is pushed to its one box, proven and reported is held against the bytes there.

It has a store of its own, so that whatever becomes of it, the year's own judge need not know.
"""

import json
import os
import re
import shutil
import signal
from collections import Counter
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from datetime import datetime, time, timedelta
from itertools import count
from typing import TYPE_CHECKING, ClassVar

from year.faults import Disturbance

if TYPE_CHECKING:
    from year.play import Play

__all__ = ["DISTURBANCES", "AtTheBench", "Workbench"]

_Stops = Sequence[tuple[datetime, Callable[[], None]]]
_ESTATE = """
[estate]
name = "Workbench"
time_zone = "Europe/Oslo"
[procedures.files]
over = "local"
noise = ['^saved at ', '^ hidden ']
{procedure}
[[sources]]
name = "box"
procedure = "files"
{more}
"""
_BETWEEN = timedelta(minutes=20)  # two commands
_STEPS = 'steps = [{ pull = "box.cfg" }]'


class Workbench:
    """The estate in its folder, and its box."""

    def __init__(self, play: "Play") -> None:
        self._play = play
        self.now = play.now
        self.folder = play.home.parent / "workbench"
        self.box = self.folder / "box.cfg"

    def write(self, procedure: str = "", more: str = "") -> None:
        """Another estate file."""
        (self.folder / "historon.toml").write_text(_ESTATE.format(procedure=f"{_STEPS}\n{procedure}", more=more))

    def ask(self, *arguments: str, dying_at: int | None = None) -> tuple[int, str]:
        """What a command said in all, and its exit code."""
        self.now += _BETWEEN
        words = [*arguments, "--estate", str(self.folder / "historon.toml")]
        said = self._play.program.command(words, self.now, dying_at=dying_at)
        self._play.judge.judge_text(f"historon {' '.join(arguments)}", (said.out + said.err).encode())
        return said.code, said.out + said.err

    def rest(self, span: timedelta) -> None:
        """Let time pass."""
        self.now += span

    def numbers(self) -> set[int]:
        """The versions there are of the box."""
        _, said = self.ask("versions", "box", "--json", "--all")
        return {row["version"] for row in json.loads(said)["rows"]}


@contextmanager
def _workbench(play: "Play") -> Iterator[Workbench]:
    bench = Workbench(play)
    bench.folder.mkdir()
    bench.write()
    try:
        play.ask("new", str(bench.folder), "--store-only")
        yield bench
    finally:
        shutil.rmtree(bench.folder)


class AtTheBench(Disturbance):
    """Something is tried there in the afternoon."""

    mild: ClassVar[bool] = True

    def stops(self, play: "Play") -> _Stops:
        return [(play.at(time(18)), lambda: self._try(play))]

    def _try(self, play: "Play") -> None:
        with _workbench(play) as bench:
            self.work(play, bench)

    def work(self, play: "Play", bench: Workbench) -> None:
        """What is tried."""
        raise NotImplementedError

    def _find(self, play: "Play", mistake: str, words: str) -> None:
        play.find(mistake, "the workbench", f"{self.kind}: {words}")

    def _text(self) -> str:
        """A configuration, with noise in it."""
        lines = [f"berth {number} name {self.rng.randrange(10**6)}" for number in range(30)]
        lines.insert(self.rng.randrange(30), f" hidden permit {self.rng.randrange(10**6)}")
        return "\n".join([f"saved at {self.rng.randrange(10**6)}", *lines, "end"]) + "\n"


class PushedBack(AtTheBench):
    """A version is pushed back, to a box that takes it whole, cuts it, or alters a line.

    What is sent was shown, to the letter; and it is well where the box holds it, and only there.
    """

    kind = "pushed back"

    def work(self, play: "Play", bench: Workbench) -> None:
        for name, does in _BOXES.items():
            after = f'\n  {{ send = ["sh", "-c", "{does}"] }},' if does else ""
            bench.write(f'push = [\n  {{ put = "box.cfg", part = "box.cfg" }},{after}\n]')
            self._push(play, bench, whole=not does, how=name)

    def _push(self, play: "Play", bench: Workbench, *, whole: bool, how: str) -> None:
        wanted, present = self._text(), self._text()
        number = 0
        for text in (wanted, present):
            bench.box.write_text(text)
            code, said = bench.ask("collect")
            if code != 0:
                self._find(play, "defect", f"collect ended with {code}: {said[-300:]}")
                return
            number = number or max(bench.numbers())
        _, shown = bench.ask("push", f"box@{number}")
        added = re.findall(r"(?m)^  \+ (.*)$", shown)
        if hidden := set(wanted.splitlines()) - set(present.splitlines()) - set(added):
            self._find(play, "hidden", f"{sorted(hidden)[:3]} would be sent, and is not shown")
        digest = re.findall(r"digest of this change: (\w+)", shown)
        code, said = bench.ask("push", f"box@{number}", "--confirm", *digest)
        if whole and (code != 0 or bench.box.read_text() != wanted):
            self._find(play, "loss", f"it was not brought back: {code}: {said[-300:]}")
        if not whole and (code == 0 or not re.search("does NOT match|UNKNOWN", said)):
            self._find(play, "false all-clear", f"{how}, and push ended with {code}: {said[-200:]}")


# What the box does with a text that it was given.
_BOXES = {
    "it takes all": "",
    "it cuts the end": "head -n 20 box.cfg > cut; mv cut box.cfg",
    "it alters a line": "sed -i s/^berth.7.name/berth-7-label/ box.cfg",
}


class Proven(AtTheBench):
    """Versions are proven by a program that is content, is not, dies, is another one, or is not there."""

    kind = "proven by hand"

    def work(self, play: "Play", bench: Workbench) -> None:
        bench.box.write_text(self._text())
        for program, verdict in _PROOFS:
            bench.write(f"proof = [{json.dumps(program)}]")
            bench.ask("collect")
            if (before := self._verdict(bench)) not in ("None", "unknown", "never"):
                self._find(play, "false all-clear", f"{before} by a proof that was another one, not {program}")
            code, said = bench.ask("prove", "box")
            if (code == 0) is not (verdict == "proven") or self._verdict(bench) != verdict:
                mistake = "false alarm" if verdict == "proven" else "false all-clear"
                self._find(play, mistake, f"{program} is {self._verdict(bench)}, not {verdict}: {code}: {said[-300:]}")

    @staticmethod
    def _verdict(bench: Workbench) -> str:
        """What status says of it."""
        _, said = bench.ask("status", "--json")
        return str(json.loads(said)["rows"][0]["proof"]).partition(" ")[0]


_PROOFS = (
    (["grep", "-q", "^end$", "{folder}/box.cfg"], "proven"),
    (["grep", "-q", "^beginning$", "{folder}/box.cfg"], "failed"),
    (["sh", "-c", "echo well; kill -9 $$"], "failed"),
    (["no-such-program-here"], "unknown"),
    (["cat", "{folder}/box.cfg"], "proven"),
)


class KilledBeforeReporting(AtTheBench):
    """It is killed about when a change was stored, and the next round finds another: each is reported, and once."""

    kind = "killed before it reports"

    def work(self, play: "Play", bench: Workbench) -> None:
        record = bench.folder / "record.jsonl"
        bench.write(more='[channels.record]\nkind = "file"\npath = "record.jsonl"\nimmediately = true')
        bench.box.write_text(self._text())
        bench.ask("collect")
        for step in count(self.rng.randrange(_EVERY), _EVERY):
            bench.box.write_text(self._text())
            code, _ = bench.ask("collect", dying_at=step)
            if code != -signal.SIGKILL:
                break
            bench.box.write_text(self._text())
            bench.ask("collect")
        bench.ask("collect")  # what waited behind a notice that a dead one had taken
        lines = record.read_text().splitlines() if record.exists() else []
        reported = [event for line in lines for event in json.loads(line)["events"]]
        counts = Counter(one["version"] for one in reported if one["kind"] in ("new", "changed"))
        there = bench.numbers()
        if missing := there - counts.keys():
            self._find(play, "missing notice", f"{sorted(missing)} of {len(there)} versions were never reported")
        # What was sent, and not yet noted when the process died, may be sent again: docs/reliability.md says so.
        if often := {number for number, count in counts.items() if count > 2}:
            self._find(play, "double notice", f"{sorted(often)} were reported again and again")


class DateStandsStill(AtTheBench):
    """The box stops making exports, and gives its last one again and again: its age counts from when it was made."""

    kind = "a date that stands still"

    def work(self, play: "Play", bench: Workbench) -> None:
        dated = "steps = [{ pull = 'box.cfg', dated = 'pattern:^made (.*)' }]"
        text = _ESTATE.format(procedure=dated, more='max_age = "2h"')
        (bench.folder / "historon.toml").write_text(text)
        made = bench.now
        for number in range(1, 7):
            made = bench.now if number < 3 else made  # from the third on it is the same export
            bench.box.write_text(f"made {made.isoformat()}\n{self._text()}" if number < 4 else bench.box.read_text())
            bench.ask("collect")
            bench.rest(timedelta(minutes=40))
            code, said = bench.ask("status")
            old = bench.now - made > timedelta(hours=2)
            if old and code == 0:
                self._find(play, "false all-clear", f"its export was made at {made}, and status says: {said[-200:]}")
            if not old and code != 0:
                self._find(play, "false alarm", f"its export was made at {made}, and status says: {said[-200:]}")


class NightsApart(AtTheBench):
    """A text and an archive arrive each night, and in some nights one of them does not: no version mixes two nights."""

    kind = "parts of different nights"

    def work(self, play: "Play", bench: Workbench) -> None:
        then = self.rng.choice(["keep", "move"])
        pulls = ", ".join(f'{{ pull = "box-*.{one}", as = "{one}", complete = "ends:end" }}' for one in ("cfg", "bin"))
        text = _ESTATE.replace('over = "local"', f'over = "drop-folder"\nfolder = "drop"\nthen = "{then}"')
        (bench.folder / "historon.toml").write_text(text.format(procedure=f"steps = [{pulls}]", more=""))
        lost = {self.rng.randrange(1, 4): "bin", self.rng.randrange(4, 7): "cfg"}
        whole = 0
        for night in range(8):
            for kind in ("cfg", "bin"):
                if lost.get(night) != kind:
                    self._arrive(bench, f"box-{night}.{kind}", f"night {night}\nkind {kind}\nend\n")
            whole += night not in lost
            bench.rest(timedelta(hours=3))
            bench.ask("collect")
        good = [nights for state, nights in self._versions(bench) if state != "suspect"]
        if mixed := [nights for nights in good if len(nights) != 1]:
            self._find(play, "false all-clear", f"a good version has parts of {mixed[0]}")
        if len(good) != whole:
            self._find(play, "loss", f"{whole} nights were whole, and {len(good)} versions are good")

    @staticmethod
    def _arrive(bench: Workbench, name: str, text: str) -> None:
        file = bench.folder / "drop" / name
        file.parent.mkdir(exist_ok=True)
        file.write_text(text)
        os.utime(file, (bench.now.timestamp(), bench.now.timestamp()))

    @staticmethod
    def _versions(bench: Workbench) -> Iterator[tuple[str, set[str]]]:
        """Of each version, its state and the nights that its parts are of."""
        _, said = bench.ask("versions", "box", "--json", "--all")
        for row in json.loads(said)["rows"]:
            texts = [bench.ask("show", f"box@{row['version']}", part)[1] for part in ("cfg", "bin")]
            yield row["state"], {night for text in texts for night in re.findall(r"night \d+", text)}


_EVERY = 4  # points of torture.victim; a transaction takes six of them, and is one thing

DISTURBANCES: Sequence[type[Disturbance]] = (
    PushedBack,
    Proven,
    KilledBeforeReporting,
    DateStandsStill,
    NightsApart,
)
