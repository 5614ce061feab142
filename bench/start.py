"""How soon a command is there: `historon --help` and `historon status`, against an empty Python."""

import csv
import os
import sqlite3
import statistics
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from historon.store import LEDGER, FolderStore

SOURCES, VERSIONS = 10_000, 1_000_000
HISTORON = Path(sys.executable).with_name("historon")
ESTATE = """
[estate]
name = "Large"
sources_from = "sources.csv"
[defaults]
procedure = "files"
max_age = "26h"
[procedures.files]
over = "local"
steps = [{ pull = "data" }]
"""


def main() -> None:
    """Print medians of whole processes, run in turn."""
    with tempfile.TemporaryDirectory() as name:
        small, large = Path(name) / "small", Path(name) / "large"
        subprocess.run([HISTORON, "new", small], check=True, stdout=subprocess.DEVNULL)
        commands = {
            "python -c pass": ([sys.executable, "-c", "pass"], small),
            "historon --help": ([str(HISTORON), "--help"], small),
            "historon status, nothing yet": ([str(HISTORON), "status"], small),
        }
        times = _in_turn(commands, 15)
        least = statistics.median(times["python -c pass"])
        for title, one in times.items():
            median = statistics.median(one)
            print(f"start         {title:<30} {median * 1000:5.0f} ms, {median / least:4.1f} times python -c pass")
        _lay_out_large(large)
        times = _in_turn({"status": ([str(HISTORON), "status"], large)}, 5)
        ledger = (large / "store" / LEDGER).stat().st_size
        print(
            f"status        {SOURCES:,} sources, {VERSIONS:,} versions, ledger of {ledger / 1e6:.0f} MB: "
            f"{statistics.median(times['status']):.2f} s"
        )


def _in_turn(commands: dict[str, tuple[list[str], Path]], runs: int) -> dict[str, list[float]]:
    times: dict[str, list[float]] = {title: [] for title in commands}
    for _ in range(runs):
        for title, (command, folder) in commands.items():
            began = time.perf_counter()
            subprocess.run(
                command, cwd=folder, stdout=subprocess.DEVNULL, check=False, env={**os.environ, "NO_COLOR": "1"}
            )
            times[title].append(time.perf_counter() - began)
    return times


def _lay_out_large(folder: Path) -> None:
    """An estate whose ledger has a million versions; their contents do not matter to `status`, and are left out."""
    folder.mkdir()
    (folder / "historon.toml").write_text(ESTATE)
    with (folder / "sources.csv").open("w", newline="") as file:
        writer = csv.writer(file)
        writer.writerow(["name", "label.site"])
        writer.writerows([f"source-{n:05}", f"site-{n % 40}"] for n in range(SOURCES))
    FolderStore.create(folder / "store").close()
    now, each = int(time.time() * 1000), VERSIONS // SOURCES
    db = sqlite3.connect(folder / "store" / LEDGER)
    db.executemany(
        "INSERT INTO source (id, name, last_number, good, good_at, confirmed_at, outcome, outcome_at) "
        "VALUES (?, ?, ?, ?, ?, ?, 1, ?)",
        ((n + 1, f"source-{n:05}", each, each, now, now, now) for n in range(SOURCES)),
    )
    db.executemany(
        "INSERT INTO version (source, number, at, state, size, added, removed, parts) "
        "VALUES (?, ?, ?, 0, 40000, 1, 1, ?)",
        ((n + 1, v + 1, now - (each - v) * 86_400_000, b"\x01\x01") for n in range(SOURCES) for v in range(each)),
    )
    db.commit()
    db.close()


if __name__ == "__main__":
    main()
