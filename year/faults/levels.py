"""Faults one level above the export: lists that were cut, estates that were copied, stores that went back, deaf channels.

Each is tried on a workbench: what the program says of it is held against what was done.
"""

import json
import shutil
import threading
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from datetime import timedelta
from http.server import BaseHTTPRequestHandler, HTTPServer
from typing import TYPE_CHECKING

from year.faults import Disturbance
from year.faults.workbench import AtTheBench, Workbench

if TYPE_CHECKING:
    from year.play import Play

__all__ = ["DISTURBANCES"]

_RECORD = '[channels.record]\nkind = "file"\npath = "record.jsonl"\nimmediately = true\n'
_COPY = '[copies.far]\nkind = "{}"\npath = "far"\n'


class _OneLevelUp(AtTheBench):
    def _all_say(self, play: "Play", bench: Workbench, kind: str) -> None:
        """Every answer names what is open: status by its exit code, and doctor and notices in their lists."""
        code, said = bench.ask("status", "--json")
        open_now = {one["kind"] for one in json.loads(said)["conditions"]} if said.startswith("{") else set()
        if code != 1 or kind not in open_now:
            self._find(play, "false all-clear", f"status ends with {code}, and has {sorted(open_now)} open, not {kind}")
        _, said = bench.ask("notices", "--json")
        if kind not in {one["kind"] for one in json.loads(said)["conditions"]}:
            self._find(play, "false all-clear", f"notices do not have {kind} open")
        code, said = bench.ask("doctor")
        if code == 0:
            self._find(play, "false all-clear", f"doctor is content, and {kind} is open: {said[-200:]}")

    @staticmethod
    def _told(bench: Workbench) -> list[str]:
        file = bench.folder / "record.jsonl"
        lines = file.read_text().splitlines() if file.exists() else []
        return [event["kind"] for line in lines for event in json.loads(line)["events"]]

    def _once(self, play: "Play", bench: Workbench, kind: str) -> None:
        number = self._told(bench).count(kind)
        if number != 1:
            self._find(play, "double notice" if number else "missing notice", f"{kind} was reported {number} times")


class ListCut(_OneLevelUp):
    """Most of the sources vanish from the list: they are collected anyway, until a person says that it is meant."""

    kind = "the list is cut"

    def work(self, play: "Play", bench: Workbench) -> None:
        source = '[[sources]]\nname = "more-{}"\nprocedure = "files"\n'
        more = "".join(source.format(number) for number in range(self.rng.randrange(8, 20)))
        bench.box.write_text(self._text())
        bench.write(more=f"{more}{_RECORD}")
        bench.ask("collect")
        bench.write(more=_RECORD)
        for _ in range(2):
            bench.ask("collect")
        visited = self._visited(bench)
        if visited != more.count("[[sources]]") + 1:
            self._find(play, "loss", f"{visited} sources were collected, of {more.count('[[sources]]') + 1}")
        self._all_say(play, bench, "sources-missing")
        self._once(play, bench, "sources-missing")
        bench.ask("sources", "retire", "--missing", "--because", "it is meant")
        bench.ask("collect")
        if (code := bench.ask("status")[0]) or self._visited(bench) != 1:
            self._find(play, "false alarm", f"it is meant, and status ends with {code}")

    @staticmethod
    def _visited(bench: Workbench) -> int:
        _, said = bench.ask("rounds", "--json")
        _, said = bench.ask("rounds", str(json.loads(said)["rows"][0]["round"]), "--json")
        return len(json.loads(said)["rows"])


class AnotherEstate(_OneLevelUp):
    """A second estate file points at the store: it reads there, and changes nothing."""

    kind = "two estates, one store"

    def work(self, play: "Play", bench: Workbench) -> None:
        for _ in range(3):
            bench.box.write_text(self._text())
            bench.ask("collect")
        before = bench.numbers()
        first, lab = bench.folder, bench.folder.parent / "lab"
        lab.mkdir()
        try:
            bench.folder, bench.box = lab, lab / "box.cfg"
            keep = "[retention.few]\nat_most = 1\nat_least = 1\n"
            bench.write(more=f'retention = "few"\n{keep}{_RECORD}')
            file = lab / "historon.toml"
            file.write_text(file.read_text().replace("time_zone", f'store = "{first / "store"}"\ntime_zone', 1))
            bench.box.write_text(self._text())
            for words in (["collect"], ["prune", "--yes"], ["serve", "--once"]):
                if (code := bench.ask(*words)[0]) != 5:
                    self._find(play, "false all-clear", f"{words[0]} of another estate ends with {code}")
            if bench.numbers() != before:
                self._find(play, "loss", f"another estate changed {sorted(before)} to {sorted(bench.numbers())}")
            self._all_say(play, bench, "store-claimed")
        finally:
            bench.folder, bench.box = first, first / "box.cfg"
            shutil.rmtree(lab)


class WentBack(_OneLevelUp):
    """The store is restored from a snapshot: its copy knows more, and no number stands for two versions."""

    kind = "a snapshot is restored"

    def work(self, play: "Play", bench: Workbench) -> None:
        bench.write(more=_COPY.format(self.rng.choice(["store", "folder"])) + _RECORD)
        seen: dict[int, str] = {}
        self._collect(bench, seen)
        bench.ask("copies", "--update")
        snapshot = bench.folder / "snapshot"
        shutil.copytree(bench.folder / "store", snapshot)
        for _ in range(self.rng.randrange(1, 4)):
            self._collect(bench, seen)
        bench.ask("copies", "--update")
        shutil.rmtree(bench.folder / "store")
        snapshot.rename(bench.folder / "store")
        self._all_say(play, bench, "copy-refused")
        for _ in range(2):
            if number := self._collect(bench, seen):
                self._find(play, "loss", f"@{number} stands for two versions")
        if (code := bench.ask("copies")[0]) != 5:
            self._find(play, "false all-clear", f"copies ends with {code}, and the store is older than its copy")
        self._once(play, bench, "copy-refused")

    def _collect(self, bench: Workbench, seen: dict[int, str]) -> int:
        """Returns the number of the new version where another one had it."""
        text = self._text()
        bench.box.write_text(text)
        bench.ask("collect")
        number = max(bench.numbers())
        taken = number in seen and seen[number] != text
        seen[number] = text
        return number if taken else 0


class DeafChannel(_OneLevelUp):
    """A server takes every notice and drops it: who says which answer counts is notified."""

    kind = "a channel accepts and drops"

    def work(self, play: "Play", bench: Workbench) -> None:
        with _answering(b'{"status": "dropped"}') as address:
            (bench.folder / "hook").write_text(address)
            (bench.folder / "hook").chmod(0o600)
            channel = '[channels.hook]\nkind = "webhook"\nurl = "file:hook"\ncheck = "taken"\nimmediately = true\n'
            bench.write(more=channel)
            bench.box.write_text(self._text())
            code, said = bench.ask("collect")
            if code != 6:
                self._find(play, "false all-clear", f"nobody heard of a round, and it ends with {code}: {said[-200:]}")
            bench.rest(timedelta(hours=2))
            self._all_say(play, bench, "channel-failing")


class NoStore(_OneLevelUp):
    """The store's disk is not there when the service starts, again and again: that is reported once."""

    kind = "a service that does not start"

    def work(self, play: "Play", bench: Workbench) -> None:
        bench.write(more=_RECORD)
        bench.box.write_text(self._text())
        bench.ask("collect")
        away = bench.folder / "away"
        (bench.folder / "store").rename(away)
        for _ in range(3):
            if (code := bench.ask("serve", "--once")[0]) in (0, 1):
                self._find(play, "false all-clear", f"there is no store, and the service ends with {code}")
        self._once(play, bench, "store-trouble")
        away.rename(bench.folder / "store")
        if code := bench.ask("serve", "--once")[0]:
            self._find(play, "false alarm", f"the store is back, and the service ends with {code}")


class NamesOverlap(_OneLevelUp):
    """Two sources whose files can have one name: that is a mistake, and the estate of before stays in force."""

    kind = "names that overlap"

    def work(self, play: "Play", bench: Workbench) -> None:
        bench.write(more=_RECORD)
        bench.box.write_text(self._text())
        bench.ask("collect")
        drop = (
            '[procedures.drop]\nover = "drop-folder"\nfolder = "drop"\nsteps = [{ pull = "{name}-*.cfg", as = "a" }]\n'
        )
        both = "".join(f'[[sources]]\nname = "{name}"\nprocedure = "drop"\n' for name in ("fw", "fw-lab"))
        bench.write(more=f"{drop}{both}{_RECORD}")
        if (code := bench.ask("collect")[0]) != 4:
            self._find(play, "false all-clear", f"fw and fw-lab share files, and collect ends with {code}")
        self._once(play, bench, "estate-refused")


@contextmanager
def _answering(body: bytes) -> Iterator[str]:
    """A web server that answers so, and its address."""

    class Handler(BaseHTTPRequestHandler):
        def do_POST(self) -> None:
            self.rfile.read(int(self.headers.get("content-length") or 0))
            self.send_response(200)
            self.end_headers()
            self.wfile.write(body)

        def log_message(self, format: str, *args: object) -> None:  # noqa: A002 (so it is called there)
            return None

    server = HTTPServer(("127.0.0.1", 0), Handler)
    thread = threading.Thread(target=server.serve_forever)
    thread.start()
    try:
        yield f"http://127.0.0.1:{server.server_port}/"
    finally:
        server.shutdown()
        thread.join()
        server.server_close()


DISTURBANCES: Sequence[type[Disturbance]] = (ListCut, AnotherEstate, WentBack, DeafChannel, NoStore, NamesOverlap)
