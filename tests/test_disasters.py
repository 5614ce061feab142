"""kill -9 at random instants, a full disk, an interrupt: nothing that was reported is lost, and the next round works."""

import os
import random
import resource
import signal
import subprocess
import time
from pathlib import Path

import pytest

from historon.store import LEDGER
from tests.conftest import FILES_ESTATE, PROGRAM, EstateFolder

_SOURCES = 12


def _estate_of_many(estate: EstateFolder, extra: str = "") -> EstateFolder:
    """Many sources, whose content is new in every round, as each prints some random numbers."""
    procedure = (
        '[procedures.r]\nover = "local"\nsteps = [{ keep = ["sh", "random.sh"], as = "r.txt" }, { pull = "data" }]\n'
    )
    sources = "".join(f'[[sources]]\nname = "s{n}"\nprocedure = "r"\n' for n in range(_SOURCES))
    estate.write('[estate]\nname = "T"\nat_once = 4\n' + extra + procedure + sources)
    (estate.path / "random.sh").write_text("od -An -N 2000 -x /dev/urandom\n")
    (estate.path / "data").mkdir()
    (estate.path / "data" / "fixed").write_text("fixed\n" * 100)
    return estate


def _read_everything(estate: EstateFolder) -> dict[str, int]:
    """Every version of every source, verified; returns how many each has."""
    store = estate.store()
    counts = {}
    for name in (f"s{n}" for n in range(_SOURCES)):
        versions = store.versions(name)
        for version in versions:
            parts = {part.name: store.read(part) for part in store.parts(name, version.number)}
            assert parts.keys() == {"r.txt", "data/fixed", "data.tree"}
            assert sum(map(len, parts.values())) == version.size
        assert [version.number for version in versions] == list(range(1, len(versions) + 1))
        assert store.state(name).good == (len(versions) or None)
        counts[name] = len(versions)
    store.close()
    return counts


@pytest.mark.parametrize("seed", range(12))
def test_kill_at_any_instant_loses_nothing_that_was_reported(estate: EstateFolder, seed: int) -> None:
    _estate_of_many(estate)
    rng = random.Random(seed)
    reported: dict[str, int] = {}
    for _ in range(3):
        process = subprocess.Popen([PROGRAM, "collect"], cwd=estate.path, stdout=subprocess.PIPE, text=True)
        try:
            process.wait(timeout=rng.uniform(0.15, 0.8))
        except subprocess.TimeoutExpired:
            process.send_signal(signal.SIGKILL)
        out = process.communicate()[0]
        for line in out.splitlines():
            words = line.split()
            if len(words) >= 3 and words[1] in ("first", "changed"):
                reported[words[0]] = int(words[2].removeprefix("@"))
        counts = _read_everything(estate)
        assert all(counts[name] >= number for name, number in reported.items())
    assert estate.run("collect").code == 0
    assert min(_read_everything(estate).values()) >= 1


def test_a_kill_while_pruning_loses_no_version_that_stays(estate: EstateFolder) -> None:
    _estate_of_many(estate, extra='[retention.r]\nall = "1ms"\nat_least = 2\n[defaults]\nretention = "r"\n')
    for _ in range(6):
        assert estate.run("collect").code == 0
    process = subprocess.Popen([PROGRAM, "prune", "--yes"], cwd=estate.path, stdout=subprocess.DEVNULL)
    deadline = time.monotonic() + 30
    while not (estate.path / "store" / f"{LEDGER}-wal").exists() and time.monotonic() < deadline:
        pass
    process.kill()
    process.wait()
    store = estate.store()
    for name in (f"s{n}" for n in range(_SOURCES)):
        kept = store.versions(name)
        assert {5, 6} <= {version.number for version in kept}
        assert all(store.read(part) for version in kept for part in store.parts(name, version.number))


@pytest.mark.parametrize("signal_number", [signal.SIGINT, signal.SIGTERM])
def test_an_interrupted_round_ends_and_is_on_record(files_estate: EstateFolder, signal_number: signal.Signals) -> None:
    slow = '[procedures.slow]\nover = "local"\nsteps = [{ keep = ["sh", "-c", "touch started; sleep 60"], as = "x" }]\n'
    files_estate.write(FILES_ESTATE + slow + '[[sources]]\nname = "slow"\nprocedure = "slow"\n')
    process = subprocess.Popen([PROGRAM, "collect"], cwd=files_estate.path, stdout=subprocess.PIPE, text=True)
    assert process.stdout is not None
    reported = process.stdout.readline()
    deadline = time.monotonic() + 30
    while not (files_estate.path / "started").exists() and time.monotonic() < deadline:
        pass
    process.send_signal(signal_number)
    out = process.communicate(timeout=30)[0]
    assert reported.split() == ["files", "first", "@1"]
    assert process.returncode == 130
    assert "it was interrupted" in out
    store = files_estate.store()
    assert store.rounds()[0].ended is not None
    assert {visit.source: visit.note for visit in store.visits(1)}["slow"] == "the round was interrupted"
    assert store.state("files").good == 1


def _with_file_limit(limit: int) -> None:
    signal.signal(signal.SIGXFSZ, signal.SIG_IGN)
    resource.setrlimit(resource.RLIMIT_FSIZE, (limit, limit))


def test_a_full_disk_is_told_and_half_writes_nothing(estate: EstateFolder) -> None:
    """A limit on the size of files stands for the full disk: writes fail in the middle of the store's files."""
    _estate_of_many(estate)
    assert estate.run("collect").code == 0
    before = _read_everything(estate)
    (estate.path / "data" / "fixed").write_bytes(os.urandom(300_000))
    limit = 150_000
    done = subprocess.run(
        [PROGRAM, "collect"], cwd=estate.path, capture_output=True, text=True, check=False,
        preexec_fn=lambda: _with_file_limit(limit),
    )  # fmt: skip
    assert done.returncode == 5, done.stdout + done.stderr
    assert "the store is in trouble" in done.stderr
    assert "nothing was half written" in done.stderr
    assert "Traceback" not in done.stderr
    assert _read_everything(estate) == before
    assert estate.run("collect").code == 0
    assert all(count == before[name] + 1 for name, count in _read_everything(estate).items())


@pytest.mark.skipif(os.geteuid() == 0, reason="root may read and write everything")
def test_a_store_that_may_not_be_written_is_told(files_estate: EstateFolder) -> None:
    (files_estate.path / "store" / LEDGER).chmod(0o400)
    result = files_estate.run("collect")
    assert result.code == 5
    assert "check the owner and mode" in result.err


def test_without_its_store_no_round_begins(files_estate: EstateFolder, tmp_path: Path) -> None:
    (files_estate.path / "store").rename(tmp_path / "unmounted")
    result = files_estate.run("collect")
    assert result.code == 5
    assert "is its disk mounted?" in result.err
    assert not (files_estate.path / "store").exists()
    assert files_estate.run("new", ".", "--store-only").code == 0
    assert files_estate.run("collect").code == 0


@pytest.mark.parametrize(
    ("settings", "told"),
    [
        ('mount = "store"', "nothing is mounted at "),
        ('mount = "no/such"', "nothing is mounted at "),
        ('free = "900000GB"', "MB free, less than the 900000000 MB of free in [estate]"),
    ],
)
def test_no_round_begins_on_the_wrong_disk_or_a_full_one(files_estate: EstateFolder, settings: str, told: str) -> None:
    files_estate.write(FILES_ESTATE.replace("[estate]", f"[estate]\n{settings}"))
    result = files_estate.run("collect")
    assert result.code == 6
    assert told in result.err
    assert files_estate.store().rounds() == []


def test_a_round_begins_where_the_disk_is_mounted_and_has_room(files_estate: EstateFolder) -> None:
    files_estate.write(FILES_ESTATE.replace("[estate]", '[estate]\nmount = "/"\nfree = "1kB"'))
    assert files_estate.run("collect").code == 0
