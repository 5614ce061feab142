"""Planned silences, what was there before pruning, and what was removed: said as it is, by every command that says it."""

import json
import sqlite3
from contextlib import closing
from datetime import UTC, datetime, timedelta

import pytest

from historon.store import Removal
from tests.conftest import FILES_ESTATE, EstateFolder, prune_to

_CHANNEL = '[channels.c]\nkind = "file"\npath = "told.jsonl"\ntell = "always"\nimmediately = true\n'
_TWO_SITES = FILES_ESTATE.replace('name = "files"\n', 'name = "files"\nlabels = { site = "mole" }\n') + (
    '[[sources]]\nname = "other"\nprocedure = "files"\nmax_age = "26h"\nlabels = { site = "gate" }\n'
)


def _aged(estate: EstateFolder, days: float) -> None:
    """All that was collected is so many days older."""
    span = int(days * 86_400_000)
    with closing(sqlite3.connect(estate.path / "store" / "ledger.sqlite")) as db:
        db.execute("UPDATE source SET confirmed_at = confirmed_at - ?, good_at = good_at - ?", (span, span))
        db.commit()


def _freeze(began: int, ends: int, where: str = 'where = { site = "mole" }') -> str:
    """A freeze from so many days ago to so many days ahead."""
    today = datetime.now(UTC).date()
    first, last = today - timedelta(days=began), today + timedelta(days=ends)
    return f'[[freezes]]\nfrom = {first}\nto = {last}\nwhy = "season"\n{where}\n'


def _kinds(estate: EstateFolder) -> list[str]:
    file = estate.path / "told.jsonl"
    lines = file.read_text().splitlines() if file.exists() else []
    return [event["kind"] for line in lines for event in json.loads(line)["events"]]


def test_a_planned_silence_is_no_alarm(files_estate: EstateFolder) -> None:
    files_estate.write(_TWO_SITES + _CHANNEL)
    assert files_estate.run("collect").code == 0
    _aged(files_estate, 3)
    assert files_estate.run("status").code == 1, "overdue without a freeze"
    files_estate.write(_TWO_SITES + _CHANNEL + _freeze(3, 9, where=""))
    status = files_estate.run("status")
    assert status.code == 0, status.said
    assert "2 frozen" in status.out.splitlines()[0]
    until = datetime.now(UTC).date() + timedelta(days=9)
    assert f"until {until}" in status.out
    (row, _) = files_estate.run("status", "--json").rows
    assert (row["age"], row["frozen_until"]) == ("frozen", str(until))
    for _ in range(3):
        assert files_estate.run("serve", "--once").code == 0
    assert _kinds(files_estate).count("frozen") == 2, "each once"
    assert "overdue" not in _kinds(files_estate)


def test_only_what_a_freeze_holds_is_frozen(files_estate: EstateFolder) -> None:
    files_estate.write(_TWO_SITES + _freeze(3, 9))
    assert files_estate.run("collect").code == 0
    _aged(files_estate, 3)
    status = files_estate.run("status")
    assert (status.code, "1 OVERDUE of 2 sources" in status.out) == (1, True), status.said
    ages = {row["source"]: row["age"] for row in files_estate.run("status", "--json").rows}
    assert ages == {"files": "frozen", "other": "overdue"}


@pytest.mark.parametrize(
    ("age", "freeze", "why"),
    [
        (3, (10, -1), "it is over"),
        (35, (34, 3650), "it has lasted 30 days: perhaps a slip of the pen"),
        (8, (3, 9), "it was overdue before it began"),
    ],
)
def test_a_freeze_hides_nothing_else(files_estate: EstateFolder, age: int, freeze: tuple[int, int], why: str) -> None:
    files_estate.write(FILES_ESTATE + _freeze(*freeze, where=""))
    assert files_estate.run("collect").code == 0
    _aged(files_estate, age)
    status = files_estate.run("status")
    assert (status.code, "1 OVERDUE of 1 source" in status.out) == (1, True), why


def test_the_agenda_says_which_sources_a_freeze_holds(files_estate: EstateFolder) -> None:
    timetable = '[timetables.t]\nat = "02:30"\n[defaults]\ntimetable = "t"\n'
    files_estate.write(_TWO_SITES + timetable + _freeze(0, 9))
    shown = files_estate.run("agenda").out
    assert "files is not collected from" in shown, shown
    assert "nothing is collected" not in shown
    freezes = files_estate.run("agenda", "--json").data["freezes"]
    assert freezes[0]["sources"] == ["files"]
    files_estate.write(_TWO_SITES + timetable + _freeze(0, 9, where=""))
    assert "nothing is collected from" in files_estate.run("agenda").out


def test_the_oldest_version_kept_is_not_called_the_beginning(files_estate: EstateFolder) -> None:
    for number in range(4):
        (files_estate.path / "data" / "a.conf").write_text(f"ntp server 10.0.0.1\nuptime {number}\n")
        assert files_estate.run("collect").code == 0
    assert "present since the first version" in files_estate.run("trace", "files", "ntp").out
    prune_to(files_estate, 2)
    traced = files_estate.run("trace", "files", "ntp")
    assert "already there in @3, the oldest version" in traced.out, traced.said
    assert "added" not in traced.out
    ever = files_estate.run("find", "ntp", "--ever")
    assert "already there in @3, the oldest version" in ever.out, ever.said
    assert files_estate.run("find", "ntp", "--ever", "--json").rows[0]["beginning_known"] is False
    assert files_estate.run("trace", "files", "ntp", "--json").rows[0]["beginning_known"] is False
    (files_estate.path / "data" / "a.conf").write_text("ntp server 10.0.0.1\nntp server 10.0.0.2\n")
    assert files_estate.run("collect").code == 0
    assert files_estate.run("find", "10.0.0.2", "--ever", "--json").rows[0]["beginning_known"] is True


def test_what_was_removed_by_hand_is_on_record_like_the_services(files_estate: EstateFolder) -> None:
    for number in range(5):
        (files_estate.path / "data" / "a.conf").write_text(f"{number}\n")
        assert files_estate.run("collect").code == 0
    assert "0 versions removed" in files_estate.run("prune", "--history").out
    store = files_estate.store()
    store.remove(store.versions("files")[:1], Removal(datetime.now(UTC), {"files": "retention last"}, 1))
    store.close()
    prune_to(files_estate, 2)
    shown = files_estate.run("prune", "--history")
    assert "3 versions removed in 2 prunings" in shown.out
    assert "the service, after round 1" in shown.out
    assert "hand" in shown.out
    assert "files (2)" in shown.out
    rows = files_estate.run("prune", "--history", "--json").rows
    assert [(row["after_round"], row["sources"]) for row in rows] == [
        (None, [{"source": "files", "versions": 2}]),
        (1, [{"source": "files", "versions": 1}]),
    ]
    assert [row["rules"] for row in rows] == [["retention last"], ["retention last"]]


def test_an_age_below_zero_is_unknown(files_estate: EstateFolder) -> None:
    """A machine's clock that is a year behind: nothing is fresh by it."""
    assert files_estate.run("collect").code == 0
    assert "1 fresh" in files_estate.run("status").out
    _aged(files_estate, -365)
    result = files_estate.run("status")
    assert (result.code, "1 of UNKNOWN AGE of 1 source" in result.out and "in 364d" in result.out) == (1, True), (
        result.said
    )
    (row,) = files_estate.run("status", "--json").rows
    assert row["age"] == "unknown"
