"""A short year of faults, and whether its judge finds old faults that are brought back."""

import ast
import json
import subprocess
import sys
from pathlib import Path

import pytest
from year.wholeness import measure

pytestmark = pytest.mark.campaign

ROOT = Path(__file__).parent.parent
JUDGES = ("judge", "ledger", "telling", "truth")


def _year(*arguments: str) -> dict[str, object]:
    """What came of a year, by the program that plays it."""
    done = subprocess.run(
        [sys.executable, "-m", "year", "--json", *arguments], cwd=ROOT, capture_output=True, text=True, check=False
    )
    assert done.stdout, done.stderr
    read: dict[str, object] = json.loads(done.stdout)
    assert done.returncode == bool(read["findings"]), done.stderr
    return read


def test_a_short_year_of_faults_finds_nothing() -> None:
    found = _year("--seed", "1", "--days", "8", "--sources", "24", "--dense", "2")
    assert found["findings"] == []
    assert isinstance(found["faults"], dict)
    assert sum(found["faults"].values()) > 10


# What was found once: (sources, days, faults as (day, nights, kind, source)).
FOUND: dict[str, tuple[tuple[int, ...], int, list[tuple[int, int, str, str]]]] = {
    "the machine": (
        (0, 4, 6, 9, 13),
        28,
        [
            (2, 1, "the disk is read-only", ""),
            (4, 1, "the disk is read-only", ""),
            (4, 1, "nobody can be told", ""),
            (6, 1, "the store is replaced", ""),
            (8, 1, "a letter without an export", "mail-indentation-004"),
            (10, 1, "an empty archive", "file-archive-009"),
            (11, 1, "an archive of empty files", "file-archive-009"),
            (12, 1, "nothing, compressed", "file-archive-009"),
            (13, 1, "an error page, compressed", "file-archive-009"),
            (14, 1, "an error, compressed", "file-archive-009"),
            (12, 1, "the disk fills up", ""),
            (14, 1, "a flood", "file-database-013"),
            (16, 3, "another time zone", ""),
            (20, 1, "the clock goes forward", ""),
            (20, 1, "the web server is out of order", ""),
            (23, 1, "the store is replaced", ""),
            (25, 1, "the disk is read-only", ""),
        ],
    ),
    "somebody at the keyboard": (
        (0, 3, 6, 13, 34),
        19,
        [
            *[(day, 1, "killed while collecting by hand", "") for day in (2, 4, 6)],
            *[(day, 1, "restored over the originals", "") for day in (8, 10)],
            (12, 1, "a long page instead", "file-indentation-000"),
            (13, 1, "looked at", ""),
            (14, 1, "pushed back", ""),
            (15, 1, "proven by hand", ""),
            (16, 1, "killed before it reports", ""),
            (16, 1, "a date that stands still", ""),
            (17, 1, "parts of different nights", ""),
            (17, 1, "looked at", ""),
        ],
    ),
    "copies": (
        (0, 4, 34),
        16,
        [
            (2, 1, "a copy is gone", ""),
            (4, 1, "the store is made again", ""),
            (6, 1, "two stores at one copy", ""),
            (8, 1, "a bit rots in the copy", ""),
            (10, 1, "the store loses versions", ""),
            (12, 3, "the copy is away", ""),
        ],
    ),
    "one level up": (
        (0,),
        16,
        [
            (2, 1, "the list is cut", ""),
            (4, 1, "two estates, one store", ""),
            (6, 1, "a snapshot is restored", ""),
            (7, 1, "a snapshot is restored", ""),
            (8, 1, "a channel accepts and drops", ""),
            (10, 1, "a service that does not start", ""),
            (12, 1, "names that overlap", ""),
        ],
    ),
    "pruned": ((0, 6), 40, [(30, 1, "pruned by hand", ""), (38, 1, "pruned by hand", "")]),
}


def _script(folder: Path, name: str) -> str:
    sources, days, faults = FOUND[name]
    entries = [{"day": day, "nights": nights, "kind": kind, "source": source} for day, nights, kind, source in faults]
    file = folder / "script.json"
    file.write_text(json.dumps({"seed": "2", "days": days, "sources": sources, "entries": entries}))
    return str(file)


@pytest.mark.parametrize("name", FOUND)
def test_what_was_found_once_is_found_no_more(name: str, tmp_path: Path) -> None:
    found = _year("--script", _script(tmp_path, name))
    assert found["findings"] == []
    assert found["faults"]


# Old faults, what is looked at to find each, and as what it is found.
_HALF = (2, 2, "half of the export", "file-indentation-000")
BROKEN: dict[str, tuple[tuple[int, ...], list[tuple[int, int, str, str]], str]] = {
    "half exports are good": ((0,), [_HALF], "false all-clear"),
    "a suspect export becomes the last good one": ((0,), [_HALF], "loss"),
    "a lossy reading shows sameness": ((0, 6, 15, 21, 24), [], "false all-clear"),
    "what was taken is not remembered with it": ((17,), [(3, 1, "no push", "drop-xml-017")], "false all-clear"),
    "its collected file is not removed or moved": ((1,), [], "left over"),
    "status forgets the last try": ((1,), [(3, 1, "an error in a whole file", "drop-braces-001")], "false all-clear"),
    "what is overdue is not told": ((0,), [(2, 3, "not there", "file-indentation-000")], "missing notice"),
    "a service that was left paused is not resumed": (
        (7,),
        [(2, 1, "a service that does not resume", "paused-headers-007")],
        "false all-clear",
    ),
    "a dead holder's lease is obeyed": ((0,), [(2, 1, "killed at a turn", "")], "defect"),
    "loss travels into the copy": ((0, 1, 4), [(2, 1, "the store loses versions", "")], "loss"),
    "secrets are shown": ((0, 6, 15, 21, 24), [(3, 1, "looked at", "")], "secret"),
    "trouble is told every half minute": ((0,), [(2, 1, "the disk is read-only", "")], "double notice"),
    "one letter stops a mailbox": ((4,), [(2, 1, "a letter without an export", "mail-indentation-004")], "loss"),
    "a copy takes any store": ((0,), [(3, 1, "two stores at one copy", "")], "loss"),
    "a copy that is gone is up to date": ((0,), [(day, 1, "a copy is gone", "") for day in (3, 5)], "false all-clear"),
    "one version too many is pruned": ((0, 6), [(day, 1, "pruned by hand", "") for day in (5, 9)], "loss"),
    "links are followed": ((0, 3), [(4, 1, "restored over the originals", "")], "loss"),
    "the first thousand lines are compared": ((34,), [], "false all-clear"),
    "one highest number is remembered": ((0,), [(2, 1, "killed before it reports", "")], "missing notice"),
    "a notice is settled before it is sent": ((0,), [(2, 1, "killed before it reports", "")], "missing notice"),
    "a push is not looked at": ((0,), [(2, 1, "pushed back", "")], "false all-clear"),
    "a push shows no noise": ((0,), [(2, 1, "pushed back", "")], "hidden"),
    "any proof counts": ((0,), [(2, 1, "proven by hand", "")], "false all-clear"),
    "the date of an export is not looked at": ((0,), [(2, 1, "a date that stands still", "")], "false all-clear"),
    "each part has a queue of its own": ((0,), [(2, 1, "parts of different nights", "")], "loss"),
    "any estate writes a store": ((0,), [(2, 1, "two estates, one store", "")], "loss"),
    "a restored snapshot goes unseen": ((0,), [(2, 1, "a snapshot is restored", "")], "loss"),
    "a list that was cut is taken": ((0,), [(2, 1, "the list is cut", "")], "loss"),
    "a missing program proves": ((0,), [(2, 1, "proven by hand", "")], "false all-clear"),
    "a round goes to another store": ((0, 6), [(2, 1, "the store is replaced", "")], "false all-clear"),
}


@pytest.mark.parametrize("name", BROKEN)
def test_an_old_fault_that_is_brought_back_is_found_within_two_weeks(name: str, tmp_path: Path) -> None:
    sources, faults, mistake = BROKEN[name]
    FOUND[name] = sources, 14, faults
    found = _year("--script", _script(tmp_path, name), "--break", name, "--stop")
    assert isinstance(found["findings"], list)
    assert mistake in {one["mistake"] for one in found["findings"]}, found["findings"]


def test_of_damaged_exports_hardly_one_is_good_and_of_honest_ones_hardly_one_is_suspect() -> None:
    found = measure(150, 400, seed=3)
    assert len(found.passed) <= 1, found.passed
    assert len(found.alarms) <= 1, found.alarms


@pytest.mark.parametrize("name", JUDGES)
def test_the_judge_shares_nothing_with_what_it_judges(name: str) -> None:
    tree = ast.parse((ROOT / "year" / f"{name}.py").read_text())
    imported = {node.module or "" for node in ast.walk(tree) if isinstance(node, ast.ImportFrom)}
    imported |= {alias.name for node in ast.walk(tree) if isinstance(node, ast.Import) for alias in node.names}
    ours = {one for one in imported if one.split(".")[0] in ("historon", "tests", "torture")}
    assert not ours
    assert {one for one in imported if one.split(".")[0] == "year"} <= {f"year.{one}" for one in JUDGES}
