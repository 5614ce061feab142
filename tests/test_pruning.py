"""Pruning by hand and by itself; and when things are wrong: a clock that is off, a disk without a byte free."""

import asyncio
import hashlib
import json
import os
import shutil
import sqlite3
import subprocess
import sys
from collections.abc import Iterator
from contextlib import closing, suppress
from datetime import UTC, datetime, timedelta
from pathlib import Path
from zoneinfo import ZoneInfo

import pytest

from historon.estate import Timetable, next_instants, read_estate
from historon.estate.timetables import Times
from historon.retention import PrunedByItself, prune_by_itself
from historon.store import FolderStore, open_store
from historon.timetable.service import Service
from tests.conftest import FILES_ESTATE, EstateFolder, collect, prune
from tests.disks import mounted
from tests.leaping import InProcess, LeapingLoop

_DAY_MS = 86_400_000
_RETAINED = FILES_ESTATE.replace('name = "Test"', 'name = "Test"\nprune_limit = "100%"', 1).replace(
    "[[sources]]", '[retention.short]\nall = "1ms"\nat_least = 1\n[[sources]]\nretention = "short"'
)


@pytest.fixture
def retained(files_estate: EstateFolder) -> EstateFolder:
    files_estate.write(_RETAINED)
    for number in range(4):
        (files_estate.path / "data" / "a.conf").write_text(f"{number}\n")
        assert files_estate.run("collect").code == 0
    return files_estate


def _shift_rounds(estate: EstateFolder, days: int) -> None:
    """As if this machine's clock had been right when the rounds ran, and were off by so many days now."""
    db = sqlite3.connect(estate.path / "store" / "ledger.sqlite")
    db.execute("UPDATE round SET began = began - ?, ended = ended - ?", (days * _DAY_MS, days * _DAY_MS))
    db.commit()
    db.close()


@pytest.mark.parametrize(
    ("days", "said"),
    [(365, "by this machine's clock the last round began 1y"), (-30, "the last round begins only in 29d")],
)
def test_by_a_clock_that_may_be_wrong_nothing_is_removed(retained: EstateFolder, days: int, said: str) -> None:
    _shift_rounds(retained, days)
    plan = retained.run("prune")
    assert plan.code == 0
    assert said in plan.err
    result = retained.run("prune", "--yes")
    assert result.code == 6
    assert said in result.err
    assert "Nothing was removed" in result.err
    assert len(retained.run("versions", "files", "--json").rows) == 4


def test_nor_when_the_devices_say_that_it_is_another_day(retained: EstateFolder) -> None:
    store = retained.store()
    store.remember("files", "clock skew", str(-400 * 86_400.0))
    store.close()
    result = retained.run("prune", "--yes")
    assert result.code == 6
    assert "ahead of those of the devices" in result.err
    store = retained.store()
    store.remember("files", "clock skew", "12.0")
    store.close()
    assert "3 versions removed" in retained.run("prune", "--yes").out


@pytest.fixture
def small_disk(tmp_path: Path) -> Iterator[Path]:
    with mounted(tmp_path / "disk", "size=100m") as place:
        yield place


def _fill(disk: Path) -> None:
    with (disk / "ballast").open("wb", buffering=0) as file:
        for size in (2**20, 2**12):
            with suppress(OSError):
                while True:
                    file.write(bytes(size))


@pytest.mark.parametrize("killed", [False, True])
def test_all_can_be_read_with_no_byte_free(retained: EstateFolder, small_disk: Path, killed: bool) -> None:
    retained.write(_RETAINED.replace('name = "Test"', f'name = "Test"\nstore = "{small_disk}/store"\nfree = "1MB"', 1))
    assert retained.run("new", ".", "--store-only").code == 0
    assert (small_disk / "store" / "reserve").exists()
    assert retained.run("collect").code == 0
    if killed:  # what it wrote last is in the write-ahead log, which nobody has taken up
        script = (
            "import os; from pathlib import Path; from historon.store import FolderStore;"
            f"FolderStore(Path({str(small_disk / 'store')!r})).remember('files', 'x', 'last'); os._exit(0)"
        )
        subprocess.run([sys.executable, "-c", script], check=True)
        (small_disk / "store" / "ledger.sqlite-shm").unlink()
        assert (small_disk / "store" / "ledger.sqlite-wal").stat().st_size
    _fill(small_disk)
    for words in (["status"], ["versions", "files"], ["show", "files", "data/a.conf"], ["verify"], ["rounds"]):
        result = retained.run(*words)
        assert result.code == (1 if words == ["status"] else 0), (words, result.said)
    if killed:
        store = FolderStore(small_disk / "store", to_read=True)
        assert store.recall("files", "x") == "last"
        store.close()
    result = retained.run("hold", "files@1", "--because", "x")
    assert result.code == 5
    assert "the disk is full" in result.err
    assert "try: free some space (historon prune)" in result.err
    assert shutil.disk_usage(small_disk).free == 0


def test_with_no_byte_free_and_no_reserve_pruning_says_what_helps(retained: EstateFolder, small_disk: Path) -> None:
    retained.write(_RETAINED.replace('name = "Test"', f'name = "Test"\nstore = "{small_disk}/store"\nfree = "1MB"', 1))
    assert retained.run("new", ".", "--store-only").code == 0
    for number in range(4):
        (retained.path / "data" / "a.conf").write_text(f"{number}\n")
        retained.run("collect")
    (small_disk / "store" / "reserve").unlink()
    _fill(small_disk)
    result = retained.run("prune", "--yes")
    assert result.code == 5
    assert "try: move other files away from the disk of" in result.err
    assert "historon prune)" not in result.err


@pytest.mark.campaign
def test_pruning_works_with_no_byte_free(retained: EstateFolder, small_disk: Path) -> None:
    retained.write(_RETAINED.replace('name = "Test"', f'name = "Test"\nstore = "{small_disk}/store"\nfree = "1MB"', 1))
    assert retained.run("new", ".", "--store-only").code == 0
    for _ in range(30):
        (retained.path / "data" / "a.conf").write_bytes(os.urandom(400_000))
        assert retained.run("collect").code == 0
    _fill(small_disk)
    assert shutil.disk_usage(small_disk).free == 0
    blocked = retained.run("collect")
    assert blocked.code in (5, 6)
    assert "historon prune" in blocked.err or "disk is full" in blocked.err
    result = retained.run("prune", "--yes")
    assert result.code == 0, result.said
    assert "29 versions removed" in result.out
    assert " less" in result.out
    assert shutil.disk_usage(small_disk).free > 2**20
    assert retained.run("verify").code == 0
    assert retained.run("collect").code == 0


def test_a_disk_that_fills_up_during_a_round_stops_it_from_writing_more(
    retained: EstateFolder, small_disk: Path
) -> None:
    text = _RETAINED.replace(
        'name = "Test"', f'name = "Test"\nstore = "{small_disk}/store"\nfree = "60MB"\nat_once = 1', 1
    )
    fills = f'[procedures.fills]\nover = "local"\nsteps = [{{ send = ["sh", "-c", "head -c 50000000 /dev/zero > {small_disk}/ballast"] }}, {{ keep = ["echo", "x"], as = "x" }}]\n'
    first = '[[sources]]\nname = "fills"\nprocedure = "fills"\n'
    retained.write(text.replace("[[sources]]", fills + first + "[[sources]]", 1))
    assert retained.run("new", ".", "--store-only").code == 0
    result = retained.run("collect")
    assert result.code == 3
    assert "free, less than the 60.0 MB of free in [estate]" in " ".join(result.said.split())
    assert "1 new, 1 failed" in result.out


# ---- by itself -------------------------------------------------------------------------------------------------------

_BY_ITSELF = (
    _RETAINED.replace('name = "Test"', 'name = "Test"\nprune = "after rounds"')
    .replace("[[sources]]", '[timetables.t]\nevery = "1h"\n[[sources]]\ntimetable = "t"')
    .replace('max_age = "26h"\n', "")
    + '[channels.c]\nkind = "file"\npath = "told.jsonl"\nimmediately = true\ntell = "always"\n'
)


def _serve(estate: EstateFolder, text: str) -> str:
    """The service does what is due: one round with this export, and what follows it."""
    (estate.path / "data" / "a.conf").write_text(text)
    _on_schedule(estate)
    return estate.run("serve", "--once").err


def _on_schedule(estate: EstateFolder) -> None:
    """Something is due."""
    store = estate.store()
    store.remember_all("timetable", {"files": (datetime.now(UTC) - timedelta(hours=2)).isoformat()})
    store.close()


def _numbers(estate: EstateFolder) -> list[int]:
    store = estate.store()
    numbers = [one.number for one in store.versions("files")]
    store.close()
    return numbers


def _events(estate: EstateFolder) -> list[str]:
    file = estate.path / "told.jsonl"
    notices = [json.loads(line) for line in file.read_text().splitlines()] if file.exists() else []
    return [event["kind"] for notice in notices for event in notice["events"]]


def test_the_service_prunes_after_a_good_round_and_what_went_is_on_record(retained: EstateFolder) -> None:
    retained.write(_BY_ITSELF)
    log = _serve(retained, "4\n")
    assert "pruned: 4 versions by retention: files (4)" in log
    assert _numbers(retained) == [5]
    assert "pruned" in _events(retained)
    told = retained.run("rounds", "5").out
    assert "removed after this round (4 versions):\n  files @1 @2 @3 @4  retention short" in told
    rows = retained.run("rounds", "5", "--json").data["removed"]
    assert [(row["source"], row["version"], row["rule"]) for row in rows] == [
        ("files", number, "retention short") for number in (1, 2, 3, 4)
    ]
    assert all(len(row["sha256"]) == 64 for row in rows)


def test_more_than_may_go_at_once_waits_for_a_person(retained: EstateFolder) -> None:
    retained.write(_BY_ITSELF.replace("100%", "50%"))
    log = _serve(retained, "4\n")
    assert "paused until somebody confirms it: 4 of 5 versions of files would be removed at once" in log
    assert _numbers(retained) == [1, 2, 3, 4, 5]
    _serve(retained, "5\n")
    assert _events(retained).count("pruning-blocked") == 1, "told once"
    refused = retained.run("prune", "--yes")
    assert (refused.code, "historon prune --yes --exactly 5" in refused.err) == (6, True)
    assert "5 versions would be removed, not 4" in retained.run("prune", "--yes", "--exactly", "4").err
    assert _numbers(retained) == [1, 2, 3, 4, 5, 6]
    assert retained.run("prune", "--yes", "--exactly", "5").code == 0
    assert _numbers(retained) == [6]
    assert "pruned: 1 version by retention: files (1)" in _serve(retained, "6\n"), "as many as there are sources may"
    assert "pruning-again" in _events(retained)


def test_what_is_right_of_other_sources_is_pruned_all_the_same(retained: EstateFolder) -> None:
    second = 'name = "second"\nprocedure = "second"\nretention = "two"\n'
    procedure = '[procedures.second]\nover = "local"\nsteps = [{ pull = "second.cfg" }]\n'
    kept = '[retention.two]\nall = "1ms"\nat_least = 5\n'
    retained.write(f"{_BY_ITSELF.replace('100%', '50%')}{procedure}{kept}[[sources]]\n{second}")
    for number in range(6):
        (retained.path / "second.cfg").write_text(f"berth {number}\n")
        assert retained.run("collect", "second").code == 0
    log = _serve(retained, "4\n")
    assert "paused until somebody confirms it: 4 of 5 versions of files" in log
    assert "pruned: 1 version by retention: second (1)" in log
    assert _numbers(retained) == [1, 2, 3, 4, 5]
    (retained.path / "second.cfg").write_text("berth 7\n")
    assert retained.run("collect", "second").code == 0
    (retained.path / "data" / "a.conf").unlink()
    (retained.path / "data").rmdir()  # one that fails keeps nobody else from it
    _on_schedule(retained)
    assert "files: failed" in retained.run("serve", "--once").err
    assert _events(retained).count("pruned") == 2
    assert _numbers(retained) == [1, 2, 3, 4, 5], "nothing of one that fails is removed"


def test_a_clock_in_doubt_prunes_nothing(retained: EstateFolder) -> None:
    retained.write(_BY_ITSELF)
    store = retained.store()
    store.remember("files", "clock skew", str(3 * 86_400))
    store.close()
    assert (
        "pruning is paused until somebody confirms it: this machine's clock is 3d behind those of the devices"
        in _serve(retained, "4\n")
    )
    assert _numbers(retained) == [1, 2, 3, 4, 5]
    assert "pruning-blocked" in _events(retained)


def test_pruning_keeps_a_timetable_of_its_own(retained: EstateFolder) -> None:
    retained.write(_BY_ITSELF.replace('"after rounds"', '"mornings"') + '[timetables.mornings]\nat = "06:00"\n')
    began = datetime.now(UTC)
    left: list[list[int]] = []

    async def play() -> None:
        loop = asyncio.get_running_loop()

        def clock() -> datetime:
            return began + timedelta(seconds=loop.time())

        service = Service(
            retained.path / "historon.toml", open_store, clock, tick=timedelta(minutes=1), workers=InProcess()
        )
        running = asyncio.create_task(service.run())
        (six,) = next_instants(Timetable(at=Times.parse("06:00")), ZoneInfo("Europe/Oslo"), began, 1)
        for wait in (six - began - timedelta(minutes=1), timedelta(minutes=5)):
            await asyncio.sleep(wait.total_seconds())
            left.append(_numbers(retained))
        service.stop()
        await running

    with asyncio.Runner(loop_factory=LeapingLoop) as runner:
        runner.run(play())
    assert left == [left[0], left[0][-1:]]
    assert len(left[0]) >= 4


def test_the_doctor_and_the_estate_file_know_it(retained: EstateFolder) -> None:
    assert "nothing prunes automatically" in retained.run("doctor").out
    retained.write(_BY_ITSELF)
    assert "automatically" not in retained.run("doctor").out
    retained.write(_BY_ITSELF.replace('"after rounds"', '"after round"'))
    wrong = retained.run("status")
    assert wrong.code == 4
    assert 'estate.prune: there is no "after round" (did you mean "after rounds"?)' in wrong.err


# ---- before it is in force -------------------------------------------------------------------------------------------


def test_a_retention_can_be_tried_before_it_is_in_force(retained: EstateFolder) -> None:
    retained.write(_RETAINED + '[retention.long]\nall = "30d"\nat_least = 2\n')
    assert "nothing would be removed" in retained.run("prune", "--with", "long").out
    later = retained.run("prune", "--with", "long", "--at", "2199-01-01")
    assert "2 versions of 1 source would be removed" in later.out
    assert "nothing was removed: this is a preview" in later.out
    assert _numbers(retained) == [1, 2, 3, 4]
    assert retained.run("prune", "--with", "lang").code == 2
    assert 'did you mean "long"?' in retained.run("prune", "--with", "lang").err
    assert "omit --yes" in retained.run("prune", "--with", "long", "--yes").err
    assert retained.run("prune", "--at", "soon").code == 2


def test_the_calendar_shows_day_by_day_what_stays(retained: EstateFolder) -> None:
    db = sqlite3.connect(retained.path / "store" / "ledger.sqlite")
    for number, day in ((1, "2026-10-03"), (2, "2026-10-03"), (3, "2026-10-31"), (4, "2026-11-01")):
        at = datetime.fromisoformat(f"{day}T12:0{number}+01:00").timestamp() * 1000
        db.execute("UPDATE version SET at = ? WHERE number = ?", (int(at), number))
    db.commit()
    db.close()
    retained.write(_RETAINED.replace('all = "1ms"', 'day = "90d"'))
    shown = retained.run("prune", "--calendar", "--at", "2026-11-02").out
    assert "2026-10  ..+...........................#" in shown.splitlines()
    assert "2026-11  #.............................." in shown.splitlines()
    assert "files: 3 stay, 1 would be removed" in shown


def test_a_budget_lets_the_oldest_go_and_those_of_noise_before(files_estate: EstateFolder) -> None:
    text = FILES_ESTATE.replace('max_age = "26h"', 'max_age = "26h"\nretention = "r"\nlabels = { site = "mole" }')
    kept = '[retention.r]\nall = "90d"\nat_least = 2\n'
    files_estate.write(text + kept)
    for night in range(8):
        (files_estate.path / "data" / "a.conf").write_text(hashlib.sha256(b"%d" % night).hexdigest() * 100 + "\n")
        assert files_estate.run("collect").code == 0
    assert "every version of 1 source stays" in files_estate.run("prune").out
    with closing(files_estate.store()) as store:
        weights = store.weights("files")
    assert list(weights) == list(range(1, 9))
    assert all(weight > 0 for weight in weights.values())
    room = sum(list(weights.values())[-4:])
    for budget in (f'[[budgets]]\nsize = "{room}B"\n', f'[[budgets]]\nsize = "{room}B"\nwhere = {{ site = "mole" }}\n'):
        files_estate.write(text + kept + budget)
        planned = files_estate.run("prune").out
        assert "@1-@4" in planned
        assert "4  removed for the budget of" in planned
    files_estate.write(text + '[retention.r]\nsize = "1B"\nat_least = 2\n')
    assert "@1-@6" in files_estate.run("prune").out, "the last two stay whatever they weigh"
    files_estate.write(text + kept + f'[[budgets]]\nsize = "{room}B"\n')
    assert prune(files_estate).code == 0
    assert prune(files_estate).code == 0, "what stays was written anew, and weighs a little else"
    assert "every version of 1 source stays" in files_estate.run("prune").out
    with closing(files_estate.store()) as store:
        assert [one.number for one in store.versions("files")][-3:] == [6, 7, 8]
        assert sum(store.weights("files").values()) <= room
        assert "the budget of" in (store.removed("files")[0].rule or "")


def test_wrong_budgets(files_estate: EstateFolder) -> None:
    files_estate.write(FILES_ESTATE + '[[budgets]]\nsize = "much"\n[[budgets]]\nsize = "1GB"\nwhere = { sit = "x" }\n')
    said = files_estate.run("prune")
    assert said.code == 4
    assert "expected a size" in said.err
    assert 'no source has the label "sit"' in said.err


def test_a_retention_that_removed_nothing_yet_is_known_when_it_becomes_shorter(files_estate: EstateFolder) -> None:
    text = FILES_ESTATE.replace('name = "files"', 'name = "files"\nretention = "r"')
    keep = "[retention.r]\nat_most = {}\nat_least = 1\n"
    files_estate.write(text + keep.format(8))
    for n in range(4):
        (files_estate.path / "data" / "a.conf").write_text(f"port {n}\n")
        collect(files_estate)
    store, later = files_estate.store(), datetime.now(UTC) + timedelta(hours=1)

    def pruned() -> PrunedByItself:
        return prune_by_itself(read_estate(files_estate.path / "historon.toml"), store, later)

    assert pruned() == PrunedByItself()
    files_estate.write(text + keep.format(3))
    assert "retention r became shorter: at_most is 3, was 8" in pruned().blocked
    assert len(store.versions("files")) == 4
