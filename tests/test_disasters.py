"""kill -9 at random instants, a full disk, an interrupt: nothing that was reported is lost, and the next round works."""

import json
import os
import random
import resource
import signal
import sqlite3
import subprocess
from datetime import UTC, datetime
from pathlib import Path

import pytest

from historon.base.errors import StoreError
from historon.store import LEDGER, FolderStore
from tests.conftest import FILES_ESTATE, PROGRAM, EstateFolder, prune, sampled
from tests.disks import mounted, remount
from tests.waiting import wait_for

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


@pytest.mark.parametrize("seed", sampled(2, range(5)))
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
            if len(words) >= 3 and words[1] in ("new", "changed"):
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
    wait_for((estate.path / "store" / f"{LEDGER}-wal").exists)
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
    wait_for((files_estate.path / "started").exists)
    process.send_signal(signal_number)
    out = process.communicate(timeout=30)[0]
    assert reported.split() == ["files", "new", "@1"]
    assert process.returncode == 130
    assert "it was interrupted" in out
    store = files_estate.store()
    assert store.rounds()[0].ended is not None
    assert {visit.source: visit.note for visit in store.visits(1)}["slow"] == "the round was interrupted"
    assert store.state("files").good == 1


@pytest.mark.parametrize("kept", [True, False])
def test_what_a_killed_round_stored_is_told_by_the_next(files_estate: EstateFolder, kept: bool) -> None:
    """Whether it had come to note what is to be reported, or not."""
    slow = '[procedures.slow]\nover = "local"\nsteps = [{ keep = ["sh", "-c", "touch started; sleep 60"], as = "x" }]\n'
    slow += '[[sources]]\nname = "slow"\nprocedure = "slow"\n'
    channel = '[channels.c]\nkind = "file"\npath = "told.jsonl"\n'
    files_estate.write(FILES_ESTATE + channel)
    assert files_estate.run("collect").code == 0
    told = files_estate.path / "told.jsonl"
    told.unlink()
    (files_estate.path / "data" / "a.conf").write_text("one\nTWO\nthree\n")
    files_estate.write(FILES_ESTATE + channel + slow)
    with subprocess.Popen([PROGRAM, "collect"], cwd=files_estate.path, stdout=subprocess.PIPE, text=True) as process:
        assert process.stdout is not None
        reported = process.stdout.readline()
        assert reported.split()[:3] == ["files", "changed", "@2"]
        wait_for((files_estate.path / "started").exists)
        store = files_estate.store()
        wait_for(lambda: store.outbox.pending() != [])
        process.kill()
    assert not told.exists()
    if not kept:  # as if it had been killed a moment before
        with sqlite3.connect(files_estate.path / "store" / LEDGER) as ledger:
            ledger.execute("DELETE FROM pending")
            ledger.execute("DELETE FROM memory WHERE topic LIKE 'reported in round %'")
        ledger.close()
    files_estate.write(FILES_ESTATE + channel)
    assert "unchanged" in files_estate.run("collect").said.split()
    events = [event for line in told.read_text().splitlines() for event in json.loads(line)["events"]]
    (event,) = [event for event in events if event["kind"] == "changed"]
    assert (event["source"], event["version"]) == ("files", 2)
    assert ("reported late, as the round was interrupted" in event["message"]) != kept
    told.unlink()
    assert files_estate.run("collect").code == 0
    assert not told.exists() or '"changed"' not in told.read_text()


def test_a_change_below_the_next_one_is_told_too(files_estate: EstateFolder) -> None:
    """A round is killed when it has just stored a version; the next one finds another change of the same source."""
    channel = '[channels.c]\nkind = "file"\npath = "told.jsonl"\n'
    files_estate.write(FILES_ESTATE + channel)
    assert files_estate.run("collect").code == 0
    for number in (2, 3, 4):
        (files_estate.path / "data" / "a.conf").write_text(f"text {number}\n")
        assert files_estate.run("collect").code == 0
        if number == 4:
            break
        with sqlite3.connect(files_estate.path / "store" / LEDGER) as ledger:  # as if it had been killed then
            ledger.execute("UPDATE round SET ended = NULL WHERE number = ?", (number,))
            ledger.execute("DELETE FROM notice WHERE number = (SELECT max(number) FROM notice)")
            ledger.execute("DELETE FROM memory WHERE topic LIKE 'reported in round %'")
        ledger.close()
        lines = (files_estate.path / "told.jsonl").read_text().splitlines()
        (files_estate.path / "told.jsonl").write_text("".join(f"{line}\n" for line in lines[:-1]))
    lines = (files_estate.path / "told.jsonl").read_text().splitlines()
    events = [event for line in lines for event in json.loads(line)["events"]]
    told = [event["version"] for event in events if event["kind"] == "changed"]
    assert told == [2, 3, 4], "each once, and in their order"
    assert files_estate.run("collect").code == 0
    again = (files_estate.path / "told.jsonl").read_text().splitlines()
    assert sum('"changed"' in line for line in again[len(lines) :]) == 0


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
        [PROGRAM, "collect"],
        cwd=estate.path,
        capture_output=True,
        text=True,
        check=False,
        preexec_fn=lambda: _with_file_limit(limit),
    )
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
    assert "check that its disk is mounted" in result.err
    assert not (files_estate.path / "store").exists()
    assert files_estate.run("new", ".", "--store-only").code == 0
    assert files_estate.run("collect").code == 0


@pytest.mark.parametrize(
    ("settings", "told"),
    [
        ('mount = "store"', "nothing is mounted at "),
        ('mount = "no/such"', "nothing is mounted at "),
        ('free = "900000GB"', " free, less than the 900000 GB of free in [estate]"),
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


# ---- a store among its troubles --------------------------------------------------------------------------------------

_READING = (
    "status",
    "versions s1",
    "show s1 r.txt",
    "diff s1",
    "changes",
    "find fixed",
    "rounds",
    "verify",
    "requirements",
    "trace s1 fixed",
    "restore s1 --to back",
)


@pytest.fixture
def many(estate: EstateFolder) -> EstateFolder:
    _estate_of_many(estate)
    for _ in range(2):
        assert estate.run("collect").code == 0
    return estate


def test_a_store_on_a_disk_that_went_read_only_can_be_read_and_restored_from(
    many: EstateFolder, tmp_path: Path
) -> None:
    with mounted(tmp_path / "disk", "size=100m") as disk:
        subprocess.run(["cp", "-a", many.path / "store", disk / "store"], check=True)
        subprocess.run(["rm", "-r", many.path / "store"], check=True)
        (many.path / "store").symlink_to(disk / "store")
        remount(disk, "ro")
        for command in _READING:
            result = many.run(*command.split())
            assert result.code in (0, 1), result.said
        refused = many.run("collect")
        assert refused.code in (5, 6)
        assert "" in refused.err or "read-only" in refused.err
        held = many.run("hold", "s1@1", "--because", "x")
        assert (held.code, "the store is read-only" in held.err) == (5, True), held.said
        assert prune(many).code in (0, 5)


def test_an_empty_ledger_is_no_new_store(many: EstateFolder) -> None:
    ledger = many.path / "store" / LEDGER
    for rest in ("-wal", "-shm"):
        ledger.with_name(ledger.name + rest).unlink(missing_ok=True)
    ledger.write_bytes(b"")
    for command in ("status", "collect", "verify"):
        result = many.run(command)
        assert result.code == 5
        assert "the ledger is empty, a file of 0 bytes" in result.err
    assert not ledger.stat().st_size


def test_a_store_that_was_replaced_under_a_running_service_is_written_to_no_more(many: EstateFolder) -> None:
    store = many.store()
    (many.path / "store").rename(many.path / "away")
    FolderStore.create(many.path / "store").close()
    with pytest.raises(StoreError, match="moved or replaced while it was open"):
        store.begin_round(datetime.now(UTC), "test")
    with pytest.raises(StoreError, match="moved or replaced while it was open"):
        store.another().begin_round(datetime.now(UTC), "test")
    store.close()
    (many.path / "store" / LEDGER).unlink()
    again = FolderStore(many.path / "away")
    (many.path / "away" / LEDGER).rename(many.path / "away" / "gone")
    with pytest.raises(StoreError, match="moved or replaced"):
        again.remember("s1", "x", "y")
    again.close()


@pytest.mark.parametrize(
    "harm",
    sampled(
        6,
        [
            "UPDATE version SET parts = x'ff'",
            "UPDATE version SET parts = x'01'",
            "UPDATE version SET parts = 'text'",
            "UPDATE version SET at = 'x'",
            "UPDATE version SET state = 77",
            "UPDATE version SET trees = x'80'",
            "UPDATE version SET at = 1e30",
            "UPDATE source SET outcome = 99",
            "UPDATE source SET good_at = 9e18",
            "UPDATE content SET encoding = 99",
            "UPDATE content SET data = 7",
            "UPDATE content SET base = 12345",
            "UPDATE round SET record = x'00'",
            "UPDATE round SET tally = '['",
            "UPDATE version SET families = 3",
            "UPDATE signature SET bits = x'01'",
            "UPDATE content SET size = -5",
            "UPDATE version SET number = 'a' WHERE number = 2",
            "DELETE FROM strand",
            "DELETE FROM meta",
            "UPDATE strand SET name = x'ff00' WHERE id = 3",
            "UPDATE version SET note = x'ff'",
            "UPDATE memory SET text = '{'",
            "UPDATE source SET name = '' WHERE id = 2",
        ],
    ),
)
def test_a_corrupt_row_is_told_in_words_whatever_it_says(many: EstateFolder, harm: str) -> None:
    db = sqlite3.connect(many.path / "store" / LEDGER)
    db.executescript(harm)
    db.commit()
    db.close()
    for command in ("status", "versions s1", "diff s1", "changes", "find fixed", "rounds", "collect"):
        result = many.run(*command.split())  # asserts that there is neither a traceback nor a defect
        assert result.code in (0, 1, 2, 3, 5, 6), (command, result.said)


def test_who_waits_for_the_store_is_told_who_writes_and_healthy_sources_do_not_fail(
    many: EstateFolder, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Another process holds the lock for a while: the round waits in a thread of its own, and goes on."""
    holder = many.store()

    def meanwhile() -> "subprocess.Popen[str]":
        round_ = subprocess.Popen([PROGRAM, "collect"], cwd=many.path, stdout=subprocess.PIPE, text=True)
        with pytest.raises(subprocess.TimeoutExpired):
            round_.wait(timeout=4)
        monkeypatch.setattr("historon.store.sqlite.transactions._BUSY_S", 0.2)
        other = many.store()
        with pytest.raises(StoreError, match=r"process \d+ has been writing since [\d:]+ \(remove versions\)"):
            other.remember("s1", "x", "y")
        other.close()
        return round_

    round_ = holder.transactions.write("remove versions", meanwhile)
    out = round_.communicate(timeout=100)[0]
    assert round_.returncode == 0, out
    assert f"{_SOURCES} changed" in out
    holder.close()


def test_output_that_cannot_be_written_is_no_defect(many: EstateFolder) -> None:
    for command in ("status", "versions s1", "changes --json", "--help"):
        with Path("/dev/full").open("w") as full:
            done = subprocess.run(
                [PROGRAM, *command.split()], cwd=many.path, stdout=full, stderr=subprocess.PIPE, check=False
            )
        assert b"defect" not in done.stderr
        assert done.returncode == 6
        assert b"the output could not be written: No space left on device" in done.stderr


@pytest.mark.parametrize(
    "setting",
    [
        f'max_size = "{"9" * 400}GB"',
        f'deadline = "{"9" * 400}d"',
        f'deadline = "{"9" * 400} months"',
        'max_size = "99999999999999999999TB"',
        f'retry_pause = "{"9" * 400}"',
    ],
)
def test_an_oversized_size_or_duration_is_a_mistake_in_words(files_estate: EstateFolder, setting: str) -> None:
    files_estate.write(FILES_ESTATE.replace('over = "local"', f'over = "local"\n{setting}'))
    result = files_estate.run("status")
    assert result.code == 4
    assert "mistake" in result.err
