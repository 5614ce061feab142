"""The store against git: size of a history, time to take a round in, time to read any version."""

import os
import random
import statistics
import subprocess
import tempfile
import time
from collections.abc import Iterator
from contextlib import contextmanager
from datetime import UTC, datetime, timedelta
from pathlib import Path

from bench.history import history
from historon.base.workers import Done
from historon.collect.judging import answer, judged, question_about
from historon.collect.transports.ssh_exec import SshExec
from historon.estate import Clauses, Keep, Noise, Source
from historon.insight import Reader
from historon.inspection import Kept
from historon.store import Entry, FolderStore, Part
from historon.versions import Masks

SOURCES, NIGHTS = 60, 90
_STEP: Keep[Clauses] = Keep(says="list settings active", as_="active.cfg")
_PROCEDURE = SshExec(steps=(_STEP,), noise=(Noise.parse("^! saved at "),))
START = datetime(2026, 1, 1, 2, 30, tzinfo=UTC)


def main() -> None:
    """Print sizes and ratios for one generated history."""
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        git, ours = _Git(folder / "git"), _Ours(folder / "store")
        plain = 0
        for night, exports in enumerate(history(SOURCES, NIGHTS)):
            plain += sum(map(len, exports.values()))
            for taker in (git, ours) if night % 2 else (ours, git):
                taker.take(night, exports)
        print(f"history       {SOURCES} sources x {NIGHTS} nights, {plain / 1e6:.0f} MB plain")
        _report_size(git, ours)
        for what, index in (("CPU", 0), ("wall clock", 1)):
            git_ms, our_ms = (statistics.mean(taker.times[index]) * 1000 for taker in (git, ours))
            print(
                f"ingest        {what}: git add+commit {git_ms:.0f} ms a round, store {our_ms:.0f} ms: "
                f"{git_ms / our_ms:.1f} times as fast"
            )
        judging = statistics.mean(ours.judging[0]) * 1000
        print(f"              and {judging:.0f} ms of CPU to tell noise and count lines, which git leaves for later")
        _report_reading(ours)


def _report_size(git: "_Git", ours: "_Ours") -> None:
    ours.store.reclaim()
    loose = git.size()
    git.run("gc", "--aggressive", "--prune=now", "--quiet")
    in_pack, size = git.size(), ours.store.size()
    (bits,) = ours.store._db.execute("SELECT sum(pgsize) FROM dbstat WHERE name = 'signature'").fetchone()
    megabytes = [f"{one / 1e6:.2f} MB" for one in (loose, in_pack, size)]
    print(f"size          git loose {megabytes[0]}, git gc --aggressive {megabytes[1]}, store {megabytes[2]}")
    print(
        f"              store / packed git = {size / in_pack:.2f}, without its index {(size - bits) / in_pack:.2f}; "
        f"{size / SOURCES / NIGHTS:.0f} bytes a version"
    )


def _report_reading(ours: "_Ours") -> None:
    rng = random.Random(7)
    ours.store.close()
    store = FolderStore(ours.folder)
    times = []
    for _ in range(2000):
        source = f"source-{rng.randrange(SOURCES):03}"
        store._contents.forget()  # a cold cache: as in a command that reads one version
        began = time.perf_counter()
        store.read(store.parts(source, rng.randrange(1, NIGHTS + 1))[0])
        times.append((time.perf_counter() - began) * 1000)
    print(
        f"read          any version: median {statistics.median(times):.2f} ms, 99 % within {sorted(times)[1980]:.2f} ms"
    )
    store.close()


@contextmanager
def _timed(into: tuple[list[float], list[float]]) -> Iterator[None]:
    """Append the CPU seconds, of this process and its children, and the wall clock's."""
    before, wall = os.times(), time.perf_counter()
    yield
    after = os.times()
    into[0].append(sum(after[:4]) - sum(before[:4]))
    into[1].append(time.perf_counter() - wall)


class _Git:
    def __init__(self, folder: Path) -> None:
        self.folder = folder
        folder.mkdir()
        self.times: tuple[list[float], list[float]] = ([], [])
        self.run("init", "--quiet")
        for key, value in (("user.name", "bench"), ("user.email", "bench@example.net"), ("gc.auto", "0")):
            self.run("config", key, value)

    def run(self, *arguments: str) -> None:
        environment = {**os.environ, "GIT_CONFIG_GLOBAL": "/dev/null", "GIT_CONFIG_SYSTEM": "/dev/null"}
        subprocess.run(["git", *arguments], cwd=self.folder, check=True, env=environment)

    def take(self, _night: int, exports: dict[str, bytes]) -> None:
        for name, content in exports.items():
            (self.folder / name).write_bytes(content)
        with _timed(self.times):
            self.run("add", "--all")
            self.run("commit", "--quiet", "--message", "round")

    def size(self) -> int:
        return sum(file.stat().st_size for file in (self.folder / ".git").rglob("*") if file.is_file())


class _Ours:
    def __init__(self, folder: Path) -> None:
        self.folder = folder
        self.store = FolderStore.create(folder)
        self.times: tuple[list[float], list[float]] = ([], [])
        self.judging: tuple[list[float], list[float]] = ([], [])

    def take(self, night: int, exports: dict[str, bytes]) -> None:
        """What a round does with its exports once they are there: judge each against the last, then record all."""
        at = START + timedelta(days=night)
        masks = Masks.of(_PROCEDURE, key=b"bench")
        with _timed(self.judging):
            entries = [self._entry(name, content, at, masks) for name, content in exports.items()]
        with _timed(self.times):
            number = self.store.begin_round(at, "bench")
            self.store.record(number, entries)
            self.store.end_round(number, at)

    def _entry(self, name: str, content: bytes, at: datetime, masks: Masks) -> Entry:
        source, kept = Source(name=name, procedure="p"), [Kept(Part("active.cfg", content), _STEP)]
        question = question_about(self.store, source, _PROCEDURE, kept, masks, Reader(source.own_names))
        made = judged(question, Done([*answer(question)]))
        anew = [Part("active.cfg", content)]  # so that its digest is calculated where the store takes it in
        return Entry(
            name,
            made.outcome,
            at,
            timedelta(seconds=1),
            anew,
            made.state,
            made.added,
            made.removed,
            None,
            made.families,
            made.signature,
        )


if __name__ == "__main__":
    main()
