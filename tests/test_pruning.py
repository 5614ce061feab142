"""Pruning when things are wrong: a clock that is off, a disk without a byte free."""

import os
import shutil
import sqlite3
import subprocess
from collections.abc import Iterator
from contextlib import suppress
from pathlib import Path

import pytest

from tests.conftest import FILES_ESTATE, EstateFolder

_DAY_MS = 86_400_000
_RETAINED = FILES_ESTATE.replace(
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
    assert "removed 3 versions" in retained.run("prune", "--yes").out


@pytest.fixture
def small_disk(tmp_path: Path) -> Iterator[Path]:
    """A disk of its own that a test may fill up."""
    place = tmp_path / "disk"
    place.mkdir()
    mount = shutil.which("mount")
    if (
        mount is None
        or subprocess.run([mount, "-t", "tmpfs", "-o", "size=100m", "none", place], check=False).returncode
    ):
        pytest.skip("this user may not mount a disk")
    try:
        yield place
    finally:
        subprocess.run(["umount", "-l", place], check=True)


def _fill(disk: Path) -> None:
    with (disk / "ballast").open("wb", buffering=0) as file:
        for size in (2**20, 2**12):
            with suppress(OSError):
                while True:
                    file.write(bytes(size))


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
    assert "removed 29 versions" in result.out
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
    assert "MB free, less than the 60 MB of free in [estate]" in " ".join(result.out.split())
    assert "1 first, 1 failed" in result.out
