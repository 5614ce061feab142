"""What a round does with one changed text once it is there: judging it, beside storing it, as a user waits for both."""

import random
import statistics
import tempfile
import time
from dataclasses import dataclass, field
from datetime import UTC, datetime, timedelta
from pathlib import Path

from bench.history import configuration
from historon.base.workers import Done
from historon.collect.judging import answer, judged, question_about
from historon.collect.transports.ssh_exec import SshExec
from historon.estate import Clauses, Keep, Noise, Source
from historon.insight import Reader
from historon.inspection import Kept
from historon.store import Entry, FolderStore, Part
from historon.versions import Masks

LINES = (500, 2_400, 10_000, 26_000)
NIGHTS = 60
_STEP: Keep[Clauses] = Keep(says="list settings active", as_="active.cfg")
_PROCEDURE = SshExec(steps=(_STEP,), noise=(Noise.parse("^! saved at "),))
_SOURCE = Source(name="edge-1", procedure="p")
_START = datetime(2026, 1, 1, 2, 30, tzinfo=UTC)


@dataclass
class _Times:
    wall: list[float] = field(default_factory=list)
    cpu: list[float] = field(default_factory=list)

    def told(self) -> str:
        """Medians in milliseconds."""
        wall, cpu = (statistics.median(one) * 1000 for one in (self.wall, self.cpu))
        return f"{wall:5.1f} ms ({cpu:5.1f} of CPU)"


def main() -> None:
    """Print both, and how judging stands to storing: it may take as long, and no longer."""
    print(
        "judging       a text with an edit or three and a new clock line, its account's secret known, beside storing it"
    )
    for lines in LINES:
        with tempfile.TemporaryDirectory() as name:
            size, judging, storing = _nights(Path(name), lines)
        ratio = statistics.median(judging.wall) / statistics.median(storing.wall)
        print(
            f"              {size / 1000:4.0f} kB: judging {judging.told()}, storing {storing.told()}: {ratio:.2f} (1)"
        )


def _nights(folder: Path, lines: int) -> tuple[int, _Times, _Times]:
    rng = random.Random(5)
    config = configuration(rng, lines)
    store = FolderStore.create(folder / "store")
    masks = Masks.of(_PROCEDURE, key=b"bench", known_secrets=[b"mutiny-1789"])
    judging, storing = _Times(), _Times()
    for night in range(NIGHTS):
        content = ("\n".join(config) + "\n").encode()
        at = _START + timedelta(days=night)
        wall, cpu = time.perf_counter(), time.process_time()
        kept = [Kept(Part("active.cfg", content), _STEP)]
        question = question_about(store, _SOURCE, _PROCEDURE, kept, masks, Reader(_SOURCE.own_names))
        made = judged(question, Done([*answer(question)]))
        _note(judging, wall, cpu, night)
        anew = [Part("active.cfg", content)]  # so that its digest is calculated where the store takes it in
        entry = Entry(
            _SOURCE.name,
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
        wall, cpu = time.perf_counter(), time.process_time()
        number = store.begin_round(at, "bench")
        store.record(number, [entry])
        store.end_round(number, at)
        _note(storing, wall, cpu, night)
        config = _edited(rng, config)
    store.close()
    return len(content), judging, storing


def _note(times: _Times, wall: float, cpu: float, night: int) -> None:
    """Keep a time; the first night has nothing to be compared with, and loads what is needed."""
    if night > 1:
        times.wall.append(time.perf_counter() - wall)
        times.cpu.append(time.process_time() - cpu)


def _edited(rng: random.Random, config: list[str]) -> list[str]:
    """A new clock line; and one to three lines that came, or took the place of another."""
    edited = list(config)
    edited[1] = f"! saved at 2026-01-01 02:{rng.randrange(60):02}:{rng.randrange(60):02}"
    for _ in range(rng.randrange(1, 4)):
        at = rng.randrange(3, len(edited) - 1)
        edited[at : at + rng.randrange(2)] = [f"  description quay ramp {rng.randrange(10**6)}"]
    return edited


if __name__ == "__main__":
    main()
