"""When sources are due: expressions, daylight saving, quiet hours, freezes; the agenda; the service."""

import asyncio
import json
import os
import re
import shutil
import signal
import sqlite3
import subprocess
import sys
import time
from collections.abc import Iterator
from contextlib import closing, contextmanager
from datetime import UTC, date, datetime, timedelta
from datetime import time as clock_time
from itertools import islice, pairwise
from pathlib import Path
from zoneinfo import ZoneInfo

import msgspec
import pexpect
import pytest
from hypothesis import given
from hypothesis import strategies as st

from historon.estate import Duration, Estate, Freeze, Hours, Timetable, in_hours, instants, read_estate
from historon.estate.checking import convert, problems_of
from historon.store import LEDGER, at_work_topic, open_store
from historon.timetable import due_instants, offset_of
from historon.timetable.planned import agenda, load_by_hour, warnings_of
from historon.timetable.service import Service
from tests.conftest import FILES_ESTATE, PROGRAM, EstateFolder, WebListener, historon
from tests.leaping import InProcess, LeapingLoop

OSLO = ZoneInfo("Europe/Oslo")
_ZONES = st.sampled_from(["Europe/Oslo", "UTC", "America/New_York", "Australia/Lord_Howe", "Asia/Kathmandu"])
_CLOCKS = st.builds(lambda h, m: f"{h:02}:{m:02}", st.integers(0, 23), st.integers(0, 59))
_STARTS = st.datetimes(datetime(2024, 1, 1), datetime(2030, 1, 1), timezones=st.just(UTC))


def _timetable(**said: object) -> Timetable:
    return convert(said, Timetable)


def _next(timetable: Timetable, after: str, count: int = 3, zone: ZoneInfo = OSLO) -> list[str]:
    start = datetime.fromisoformat(after).replace(tzinfo=zone)
    return [f"{at.astimezone(zone):%a %m-%d %H:%M%z}" for at in islice(instants(timetable, zone, start), count)]


# ---- expressions ------------------------------------------------------------------------------------------------------


@pytest.mark.parametrize(
    ("said", "after", "due"),
    [
        ({"at": "02:30"}, "2026-11-23T12:00", ["Tue 11-24 02:30+0100", "Wed 11-25 02:30+0100"]),
        ({"at": ["14:00", "02:30"]}, "2026-11-23T12:00", ["Mon 11-23 14:00+0100", "Tue 11-24 02:30+0100"]),
        (
            {"at": "02:30", "weekdays": ["mon", "fri"]},
            "2026-11-23T12:00",
            ["Fri 11-27 02:30+0100", "Mon 11-30 02:30+0100"],
        ),
        ({"at": "02:30", "days": [-1]}, "2026-02-01T12:00", ["Sat 02-28 02:30+0100", "Tue 03-31 02:30+0200"]),
        ({"at": "02:30", "days": [31]}, "2026-04-01T12:00", ["Sun 05-31 02:30+0200", "Fri 07-31 02:30+0200"]),
        ({"every": "12h"}, "2026-11-23T13:00", ["Tue 11-24 00:00+0100", "Tue 11-24 12:00+0100"]),
        ({"cron": "0 9 * * 1"}, "2026-11-23T12:00", ["Mon 11-30 09:00+0100", "Mon 12-07 09:00+0100"]),
        # Clocks go forward on 2026-03-29 at 02:00, and back on 2026-10-25 at 03:00.
        ({"at": "02:30"}, "2026-03-28T12:00", ["Sun 03-29 03:30+0200", "Mon 03-30 02:30+0200"]),
        ({"at": ["02:30", "03:30"]}, "2026-03-28T12:00", ["Sun 03-29 03:30+0200", "Mon 03-30 02:30+0200"]),
        ({"at": "02:30"}, "2026-10-24T12:00", ["Sun 10-25 02:30+0200", "Mon 10-26 02:30+0100"]),
        ({"every": "1h"}, "2026-10-25T01:30", ["Sun 10-25 02:00+0200", "Sun 10-25 02:00+0100", "Sun 10-25 03:00+0100"]),
        ({"every": "12h"}, "2026-10-25T00:00", ["Sun 10-25 11:00+0100", "Mon 10-26 00:00+0100"]),
        ({"cron": "30 2 * * *"}, "2026-10-24T12:00", ["Sun 10-25 02:30+0200", "Mon 10-26 02:30+0100"]),
    ],
)
def test_instants_are_as_people_mean_them(said: dict[str, object], after: str, due: list[str]) -> None:
    assert _next(_timetable(**said), after, len(due)) == due


@given(st.lists(_CLOCKS, min_size=1, max_size=3, unique=True), _ZONES, _STARTS)
def test_every_day_has_each_time_exactly_once(at: list[str], name: str, start: datetime) -> None:
    zone = ZoneInfo(name)
    found = list(islice(instants(_timetable(at=at), zone, start), 3 * 400))
    assert all(one < other for one, other in pairwise(found))
    assert found[0] > start
    by_day: dict[date, int] = {}
    for one in found:
        day = one.astimezone(zone).date()
        by_day[day] = by_day.get(day, 0) + 1
    whole = sorted(by_day)[1:-1]
    # Two times may meet on a day that clocks go forward.
    assert sum(by_day[day] != len(at) for day in whole) <= len(whole) // 150
    assert all((later - earlier).days == 1 for earlier, later in pairwise(whole))


@given(st.integers(1, 5000), _ZONES, _STARTS)
def test_what_comes_every_so_often_never_comes_sooner_than_half_of_it(minutes: int, name: str, start: datetime) -> None:
    every = timedelta(minutes=minutes)
    found = list(islice(instants(_timetable(every=f"{minutes}m"), ZoneInfo(name), start), 60))
    assert all(every / 2 <= later - earlier <= 1.5 * every for earlier, later in pairwise(found))
    assert timedelta() < found[0] - start <= 1.5 * every


@given(_STARTS, _CLOCKS, st.integers(1, 23 * 60), st.lists(_CLOCKS, min_size=2, max_size=2, unique=True))
def test_asking_again_from_any_moment_gives_the_same_instants(
    start: datetime, at: str, spread: int, quiet: list[str]
) -> None:
    estate = _estate(_timetable(at=at, spread=f"{spread}m", quiet=["-".join(quiet)]))
    source = estate.sources["files"]
    found = [at for at, _ in islice(due_instants(estate, source, start), 6)]
    for earlier, later in pairwise(found):
        assert next(due_instants(estate, source, earlier))[0] == later
        assert next(due_instants(estate, source, later - timedelta(seconds=1)))[0] == later
    hours = Hours.parse("-".join(quiet))
    assert not any(hours.hold(at.astimezone(OSLO).time()) for at in found)


@given(_STARTS, _CLOCKS, st.integers(0, 23 * 60))
def test_a_source_is_due_its_share_of_the_spread_later(start: datetime, at: str, spread: int) -> None:
    timetable = _timetable(at=at, spread=f"{spread}m") if spread else _timetable(at=at)
    estate = _estate(timetable)
    offset = offset_of("files", "t", timetable)
    days = list(islice(instants(timetable, OSLO, start - timedelta(days=3)), 8))
    wanted = [one + offset for one in days if one + offset > start][:3]
    assert [one for one, _ in islice(due_instants(estate, estate.sources["files"], start), 3)] == wanted


@pytest.mark.parametrize(
    ("at", "begins"),
    [("03:00", "03:00"), ("01:59", "02:00"), ("05:00", "02:00 next"), ("04:59", "04:59"), ("23:00", "02:00 next")],
)
def test_what_has_its_hours_waits_for_their_next_begin(at: str, begins: str) -> None:
    now = datetime.combine(date(2026, 6, 1), clock_time.fromisoformat(at), OSLO)
    wanted = datetime.combine(date(2026, 6, 1 + ("next" in begins)), clock_time.fromisoformat(begins[:5]), OSLO)
    assert in_hours(now.astimezone(UTC), [Hours.parse("02:00-05:00")], OSLO) == wanted


@pytest.mark.parametrize(("took", "max_age", "told"), [(60, "1h", 0), (61, "1h", 1), (10, "60m", 0), (10, "59m", 1)])
def test_an_agenda_warns_of_what_cannot_be_and_of_no_more(took: int, max_age: str, told: int) -> None:
    """A source that takes as long as the time until it is due again can be; so can a max_age as long as that time."""
    made = _estate(_timetable(every="1h"))
    source = msgspec.structs.replace(made.sources["files"], max_age=Duration.parse(max_age))
    since = datetime(2026, 6, 1, tzinfo=UTC)
    until = since + timedelta(hours=5)
    dues = list(agenda(made, [source], since, until))
    lasted = {"files": timedelta(minutes=took)}
    loads = load_by_hour(made, dues, {}, since, until)
    assert [load.begin for load in loads] == [since + timedelta(hours=hour) for hour in range(6)]
    assert len(list(warnings_of(made, [source], dues, loads, lasted))) == told


def _estate(timetable: Timetable, *freezes: Freeze, path: Path | None = None) -> Estate:
    import dataclasses

    text = FILES_ESTATE.replace('max_age = "26h"', 'timetable = "t"').replace(
        "[[sources]]", '[timetables.t]\nat = "00:00"\n[[sources]]'
    )
    made = read_estate(path or Path("historon.toml"), text)
    return dataclasses.replace(made, timetables={"t": timetable}, freezes=freezes)


def test_a_spread_is_stable_and_even() -> None:
    timetable = _timetable(at="02:30", spread="40m")
    offsets = [offset_of(f"source-{n}", "nightly", timetable) for n in range(500)]
    assert offsets == [offset_of(f"source-{n}", "nightly", timetable) for n in range(500)]
    assert all(timedelta() <= one < timedelta(minutes=40) for one in offsets)
    by_minute = [sum(one // timedelta(minutes=4) == part for one in offsets) for part in range(10)]
    assert min(by_minute) > 25
    assert offset_of("source-1", "weekly", timetable) != offset_of("source-1", "nightly", timetable)


def test_quiet_hours_are_waited_for_and_freezes_leave_out() -> None:
    estate = _estate(_timetable(at=["02:30", "12:00"], quiet=["22:00-06:00"]))
    source = estate.sources["files"]
    start = datetime(2026, 11, 23, 20, tzinfo=UTC)
    assert [f"{at.astimezone(OSLO):%d %H:%M}" for at, _ in islice(due_instants(estate, source, start), 3)] == [
        "24 06:00",
        "24 12:00",
        "25 06:00",
    ]
    freeze = convert({"from": date(2026, 11, 24), "to": date(2026, 12, 1)}, Freeze)
    frozen = _estate(_timetable(at="12:00"), freeze)
    assert f"{next(due_instants(frozen, source, start))[0]:%m-%d}" == "12-02"
    for_good = convert({"from": date(2026, 11, 24), "to": date(9999, 12, 31)}, Freeze)
    for said in ({"at": "12:00"}, {"every": "7h"}, {"cron": "0 9 * * *"}):
        assert len(list(due_instants(_estate(_timetable(**said), for_good), source, start))) <= 1
    elsewhere = convert({"from": date(2026, 11, 24), "to": date(2026, 12, 1), "where": {"site": "x"}}, Freeze)
    assert f"{next(due_instants(_estate(_timetable(at='12:00'), elsewhere), source, start))[0]:%m-%d}" == "11-24"


@pytest.mark.parametrize(
    ("said", "problem"),
    [
        ({}, "gives the time in more than one way, or in none"),
        ({"at": "02:30", "every": "1h"}, "gives the time in more than one way, or in none"),
        ({"at": "26:30"}, '"26:30" is not a time of day'),
        ({"cron": "0 9 * *"}, "does not have five fields"),
        ({"cron": "61 9 * * *"}, "minute, hour"),
        ({"cron": "0 0 31 2 *"}, "31 2"),
        ({"every": "1s"}, "a minute"),
        ({"at": "02:30", "weekdays": ["monday"]}, '"monday" is not possible here'),
        ({"at": "02:30", "days": [0]}, "count from 1"),
        ({"at": "02:30", "days": [32]}, "a whole number <= 31"),
        ({"every": "1h", "weekdays": ["mon"]}, "they belong to at"),
        ({"at": "02:30", "quiet": ["8-9"]}, '"8-9" is not a span of hours'),
        ({"at": "02:30", "spread": "1d"}, "less than a day"),
        ({"every": "12h", "spread": "13h"}, "is longer than every"),
    ],
)
def test_wrong_timetables_are_refused(said: dict[str, object], problem: str) -> None:
    found = [str(one) for one in problems_of(said, Timetable)]
    assert found
    assert problem in found[0]


def test_of_a_wrong_timetable_is_told_what_was_understood(estate: EstateFolder) -> None:
    estate.write(
        FILES_ESTATE
        + """
[timetables.a]
cron = "15 9 * * 8"
[timetables.b]
at = "02:30"
spread = "40"
[timetables.c]
cron = "@daily"
"""
    )
    said = estate.run("agenda").err
    assert re.search(
        r"timetables.a.cron: .*It was understood as minute 15, hour 9: next (\d{4}-\d\d-\d\d 09:15(, )?){5}\)", said
    )
    assert re.search(
        r"timetables.b.spread: .*It was understood as at 02:30: next (\d{4}-\d\d-\d\d 02:30(, )?){5}", said
    )
    assert "timetables.c.cron" in said


# ---- the agenda -------------------------------------------------------------------------------------------------------

SCHEDULED = FILES_ESTATE.replace(
    "[[sources]]",
    """
[timetables.nightly]
at = "02:30"
[timetables.weekly]
cron = "0 9 * * 1"
[[sources]]
""",
).replace('max_age = "26h"', 'max_age = "26h"\ntimetable = ["nightly", "weekly"]')


@pytest.fixture
def scheduled(files_estate: EstateFolder) -> EstateFolder:
    files_estate.write(SCHEDULED)
    return files_estate


def test_the_agenda_tells_what_is_due_and_what_will_not_go_well(scheduled: EstateFolder) -> None:
    read = scheduled.run("agenda", "--for", "7d", "--json")
    assert [one["timetable"] for one in read.rows].count("nightly") == 7
    assert [one["timetable"] for one in read.rows].count("weekly") == 1
    assert read.data["warnings"] == []
    assert sum(one["sources"] for one in read.data["hours"]) == 8
    assert [one["collections"] for one in read.data["timetables"]] == [7, 1]
    plain = scheduled.run("agenda").out
    assert re.search(r"02:30 +\S.* +files +nightly", plain)
    assert "nightly: " in plain
    scheduled.write(
        SCHEDULED.replace('at = "02:30"', 'at = "02:30"\nweekdays = ["mon"]')
        + """
[[sources]]
name = "other"
procedure = "files"
"""
    )
    said = scheduled.run("agenda", "--for", "21d").out
    assert "warning: files: not due for 6d" in said, "from Monday 09:00 to the next one at 02:30"
    assert ", and max_age is 26h (shorten the interval" in said
    assert "warning: never due: other (give them a timetable)" in said
    assert "no timetable: only collected by hand" in scheduled.run("doctor").out
    assert "█" in scheduled.run("agenda", "--hours").out or "nothing is due" in scheduled.run("agenda", "--hours").out


def test_the_agenda_reckons_ahead(scheduled: EstateFolder) -> None:
    scheduled.run("collect")
    played = scheduled.run("agenda", "--simulate", "30d").out
    assert "in 30 days: 34 collections of 1 source" in played or "in 30 days: 35 collections of 1 source" in played
    assert "time: " in played
    assert "disk: unknown until there" in played
    simulation = scheduled.run("agenda", "--simulate", "30d", "--json").data["simulation"]
    assert (simulation["span_s"], simulation["collections"] in (34, 35), simulation["growth_bytes"]) == (
        30 * 86400,
        True,
        None,
    )


def test_an_agenda_that_cannot_be_is_refused(scheduled: EstateFolder, files_estate: EstateFolder) -> None:
    for wrong in ("soon", "0s", "9y"):
        assert scheduled.run("agenda", "--for", wrong).code == 2
    scheduled.write(SCHEDULED.replace('"weekly"]', '"weakly"]'))
    result = scheduled.run("agenda")
    assert result.code == 4
    assert 'there is no "weakly" (did you mean "weekly"?)' in result.err
    files_estate.write(FILES_ESTATE)
    assert "there is no timetable" in files_estate.run("agenda").out


# ---- the service ------------------------------------------------------------------------------------------------------


def _on_record(estate: EstateFolder, at: datetime) -> None:
    store = estate.store()
    store.remember_all("timetable", {"files": at.isoformat()})
    store.close()


def _rounds(estate: EstateFolder) -> int:
    store = estate.store()
    found = len(store.rounds())
    store.close()
    return found


def test_once_does_what_is_due_once_however_long_it_was_missed(scheduled: EstateFolder) -> None:
    assert scheduled.run("serve", "--once").code == 0
    assert _rounds(scheduled) == 0, "a source begins to be on schedule now"
    _on_record(scheduled, datetime.now(UTC) - timedelta(days=12))
    done = scheduled.run("serve", "--once", "--log-format", "json")
    assert done.code == 0
    told = [json.loads(line) for line in done.err.splitlines()]
    assert "files: new" in [one["message"] for one in told]
    assert all(set(one) == {"at", "level", "message"} for one in told)
    assert _rounds(scheduled) == 1
    assert scheduled.run("serve", "--once").code == 0
    assert _rounds(scheduled) == 1, "twelve nights were missed, and one is made up for"
    shutil.rmtree(scheduled.path / "data")
    _on_record(scheduled, datetime.now(UTC) - timedelta(days=2))
    assert scheduled.run("serve", "--once", "--log-level", "warning").code == 3


@contextmanager
def _serving(estate: EstateFolder, *arguments: str) -> Iterator["subprocess.Popen[str]"]:
    process = subprocess.Popen(
        [PROGRAM, "serve", *arguments],
        cwd=estate.path,
        stderr=subprocess.PIPE,
        text=True,
        env={"PATH": os.environ["PATH"], "HOME": str(estate.path)},
    )
    try:
        yield process
    finally:
        process.kill()
        process.wait()
        assert process.stderr
        process.stderr.close()


def _wait_for(process: "subprocess.Popen[str]", words: str) -> list[str]:
    assert process.stderr
    seen = []
    deadline = time.monotonic() + 40
    while time.monotonic() < deadline:
        line = process.stderr.readline()
        seen.append(line)
        if words in line:
            return seen
        assert line, seen
    raise AssertionError(seen)


def test_the_service_keeps_the_timetable_takes_up_changes_and_ends_cleanly(scheduled: EstateFolder) -> None:
    _on_record(scheduled, datetime.now(UTC) - timedelta(days=3))
    with _serving(scheduled) as process:
        _wait_for(process, "round 1 ended: 1 new")
        other = scheduled.run("serve", "--once")
        assert other.code == 6
        assert "another service keeps the timetables of this store" in other.err
        scheduled.write(SCHEDULED.replace('"02:30"', '"25:30"'))
        refused = _wait_for(process, "the estate file is invalid; the previous settings stay in effect")
        assert '"25:30" is not a time of day' in refused[-1]
        scheduled.write(SCHEDULED.replace('"02:30"', '"03:30"'))
        assert ":30:00" in _wait_for(process, "1 source on schedule")[-1]
        process.send_signal(signal.SIGTERM)
        _wait_for(process, "the service has ended")
        assert process.wait(20) == 0
    assert scheduled.run("serve", "--once").code == 0, "the lease was given back"


def test_a_lease_that_ran_out_is_taken_over(scheduled: EstateFolder) -> None:
    store = scheduled.store()
    now = datetime.now(UTC)
    assert store.lease("a", now, now + timedelta(minutes=1)) is None
    assert store.lease("b", now, now + timedelta(minutes=1)) == "a"
    assert store.lease("a", now, now + timedelta(minutes=1)) is None
    assert store.lease("b", now + timedelta(minutes=2), now + timedelta(minutes=3)) is None
    store.release("a")
    assert store.lease("a", now + timedelta(minutes=2), now + timedelta(minutes=3)) == "b"
    store.release("b")
    assert store.lease("a", now, now + timedelta(minutes=1)) is None
    store.close()


@pytest.mark.parametrize("kind", ["systemd", "timer", "cron", "launchd", "windows"])
def test_service_files_name_the_program_and_the_estate(scheduled: EstateFolder, kind: str, tmp_path: Path) -> None:
    out = tmp_path / "units"
    out.mkdir()
    assert scheduled.run("service-files", kind, "--to", out).code == 0
    texts = [file.read_text() for file in sorted(out.iterdir()) if file.suffix != ".timer"]
    assert all(f"{PROGRAM}" in text and "historon.toml" in text for text in texts)
    assert all("{{" not in text for text in texts)
    assert scheduled.run("service-files", kind, "--to", tmp_path / "none").code == 6
    if kind in ("launchd", "windows"):
        from lxml import etree

        etree.fromstring(texts[0].encode())


def test_a_unit_lets_the_service_write_where_the_estate_file_says_that_it_does(scheduled: EstateFolder) -> None:
    before = scheduled.run("service-files", "systemd").out
    assert f"ReadWritePaths={scheduled.path}\n" in before
    text = (scheduled.path / "historon.toml").read_text()
    scheduled.write(
        text
        + """
[copies.far]
path = "/mnt/far/historon"
mount = "/mnt/far"
[copies.near]
path = "copy"
[channels.record]
kind = "file"
path = "/var/log/historon/notices.jsonl"
[procedures.pushed]
over = "drop-folder"
folder = "/srv/drop/{name}"
then = "move"
steps = [{ pull = "*", as = "x", complete = "renamed" }]
[procedures.left]
extends = "pushed"
folder = "/srv/left"
then = "keep"
[[sources]]
name = "door"
procedure = "pushed"
[[sources]]
name = "gate"
procedure = "left"
"""
    )
    unit = scheduled.run("service-files", "timer").out
    assert f"ReadWritePaths={scheduled.path} -/mnt/far -/srv/drop/door -/var/log/historon\n" in unit


@pytest.mark.skipif(not shutil.which("systemd-analyze"), reason="needs systemd-analyze")
@pytest.mark.parametrize("kind", ["systemd", "timer"])
def test_units_are_right_and_closed_in(scheduled: EstateFolder, kind: str, tmp_path: Path) -> None:
    units = tmp_path / "units"
    units.mkdir()
    scheduled.run("service-files", kind, "--to", units, "--user", "root")
    for file in units.iterdir():
        checked = subprocess.run(["systemd-analyze", "verify", file], capture_output=True, text=True, check=False)
        assert checked.returncode == 0, checked.stderr
    for file in units.glob("*.service"):
        judged = subprocess.run(
            ["systemd-analyze", "security", "--offline=true", file], capture_output=True, text=True, check=False
        )
        level = re.search(r"Overall exposure level.*: ([\d.]+)", judged.stdout)
        assert level, judged.stdout + judged.stderr
        assert float(level[1]) < 3.0


def test_an_estate_of_any_size_has_an_agenda(estate: EstateFolder) -> None:
    sources = "".join(f'[[sources]]\nname = "s{n}"\nprocedure = "files"\ntimetable = "t"\n' for n in range(300))
    estate.write(FILES_ESTATE.partition("[[sources]]")[0] + '[timetables.t]\nat = "02:30"\nspread = "40m"\n' + sources)
    said = estate.run("agenda").out
    assert "in 24 hours: 300 collections of 300 sources" in said
    assert len(said.splitlines()) < 20


# ---- ages -------------------------------------------------------------------------------------------------------------


def test_only_good_rounds_give_a_sign_of_life(files_estate: EstateFolder, listener: WebListener) -> None:
    files_estate.write(FILES_ESTATE.replace('name = "Test"', 'name = "Test"\nheartbeat = "env:BEAT"'))
    assert files_estate.run("collect", BEAT=listener.address).code == 0
    assert [path for path, *_ in listener.heard] == ["/CANARY"]
    shutil.rmtree(files_estate.path / "data")
    assert files_estate.run("collect", BEAT=listener.address).code == 3
    assert len(listener.heard) == 1
    (files_estate.path / "data").mkdir()
    (files_estate.path / "data" / "a.conf").write_text("one\n")
    listener.status = 404
    gone = files_estate.run("collect", BEAT=listener.address)
    assert gone.code == 6
    assert "heartbeat: answered with status 404 (check whether the address is still valid)" in gone.err
    for address in (listener.address.replace("http", "ftp"), "http://127.0.0.1:9/CANARY", "no address CANARY"):
        result = files_estate.run("collect", BEAT=address)
        assert result.code == 6
        assert "heartbeat: " in result.err
        assert "CANARY" not in result.said
    assert "heartbeat" in files_estate.run("collect").err


def test_a_source_that_gets_overdue_is_noticed_though_nothing_ran(scheduled: EstateFolder) -> None:
    assert "files: overdue" not in scheduled.run("serve", "--once").err, "it is new, and not due yet"
    scheduled.write(
        SCHEDULED.replace('["nightly", "weekly"]', '"yearly"') + '[timetables.yearly]\nat = "02:30"\ndays = [31]\n'
    )
    _on_record(scheduled, datetime.now(UTC) - timedelta(hours=27))
    first = scheduled.run("serve", "--once")
    assert "files: overdue" in first.err, "it was never collected"
    assert "files: overdue" not in scheduled.run("serve", "--once").err, "told once"
    scheduled.run("collect")
    assert "files: fresh-again" in scheduled.run("serve", "--once").err
    store = scheduled.store()
    store._db.execute("UPDATE source SET confirmed_at = confirmed_at - 100000000")
    store.close()
    assert "files: overdue" in scheduled.run("serve", "--once").err


def test_the_board_by_label_paused_and_narrow(estate: EstateFolder) -> None:
    sources = "".join(
        f'[[sources]]\nname = "s{n}"\nprocedure = "files"\nmax_age = "1d"\nlabels = {{ site = "{"ab"[n % 2]}" }}\n'
        + ('skip = "being moved"\n' if n == 3 else "")
        for n in range(6)
    )
    estate.write(FILES_ESTATE.partition("[[sources]]")[0] + sources)
    by = estate.run("status", "--by", "site")
    assert by.code == 1
    assert by.out.splitlines()[0] == "1 SKIPPED FOR LONG; 5 never collected of 6 sources"
    assert [line.split() for line in by.out.splitlines()[-2:]] == [["a", "3", "3", "·"], ["b", "3", "2", "1"]]
    assert "skipped" in estate.run("status").out
    assert estate.run("status", "--by", "colour").code == 2
    child = pexpect.spawn(
        str(PROGRAM),
        ["status", "--watch", "1"],
        cwd=str(estate.path),
        dimensions=(30, 80),
        encoding="utf-8",
        env={"TERM": "xterm", "PATH": "/usr/bin:/bin"},
        timeout=30,
    )
    for _ in range(2):
        child.expect("5 never collected of 6 sources")
    child.sendintr()
    child.expect(pexpect.EOF)
    child.close()
    assert child.exitstatus == 130
    assert all(len(line) <= 80 for line in re.sub(r"\x1b\[[0-9;?]*[A-Za-z]", "", str(child.before)).splitlines())


def test_what_the_service_writes_down_waits_for_other_writers_beside_everything_else(scheduled: EstateFolder) -> None:
    ledger = scheduled.path / "store" / LEDGER

    async def play() -> None:
        service = Service(
            scheduled.path / "historon.toml",
            lambda _: scheduled.store(),
            lambda: datetime.now(UTC),
            workers=InProcess(),
        )
        service._sit_down(read_estate(scheduled.path / "historon.toml"), scheduled.store())
        service._schedule.unwritten = {"files": "2026-11-23T12:00:00+00:00"}
        with closing(sqlite3.connect(ledger, isolation_level=None)) as other:
            other.execute("BEGIN IMMEDIATE")
            service._write(renew=True)
            (writing,) = service._beside.tasks()
            for _ in range(20):
                await asyncio.sleep(0)
            assert not writing.done()
            other.execute("COMMIT")
            await writing
        service._take_up_written()
        assert service._store.recall("files", "timetable") == "2026-11-23T12:00:00+00:00"
        service._store.close()

    asyncio.run(play())


def test_a_service_that_was_stopped_for_long_stands_by_and_may_take_over_again(
    scheduled: EstateFolder, caplog: pytest.LogCaptureFixture
) -> None:
    caplog.set_level("INFO", "historon.service")
    began, other = datetime.now(UTC), "elsewhere 7 7"
    stopped = timedelta()
    store = scheduled.store()

    async def play() -> None:
        nonlocal stopped
        loop = asyncio.get_running_loop()

        def clock() -> datetime:
            return began + stopped + timedelta(seconds=loop.time())

        service = Service(scheduled.path / "historon.toml", open_store, clock, workers=InProcess())
        running = asyncio.create_task(service.run(wait=True))
        await asyncio.sleep(30)
        stopped = timedelta(minutes=2)  # as by SIGSTOP: nothing runs, and then it is later
        left = store.begin_round(clock(), "timetable")
        store.remember("", at_work_topic(left), other)
        assert store.lease(other, clock(), clock() + timedelta(minutes=1)) is None
        await asyncio.sleep(30)
        assert store.lease(other, clock(), clock() + timedelta(minutes=1)) is None, "it took nothing back"
        store.release(other)
        await asyncio.sleep(30)
        assert store.lease(other, clock(), clock() + timedelta(minutes=1)) is not None
        (one,) = [one for one in store.rounds() if one.number == left]
        assert one.ended is not None, "what it finds in a round that it did not begin is ended"
        service.stop()
        await running

    with asyncio.Runner(loop_factory=LeapingLoop) as runner:
        runner.run(play())
    words = [record.getMessage() for record in caplog.records]
    assert sum("this one stands by" in one for one in words) == 1
    assert f"ended round {store.rounds()[0].number} of a service that is stopped" in words
    assert words[-1] == "the service has ended"


def test_sigterm_ends_the_service_whatever_hangs(scheduled: EstateFolder) -> None:
    script = """
import time
from historon.cli.commands import serve
from historon.cli.main import main
from historon.timetable.service import Service
async def run(self, **_):
    print("runs", flush=True)
    await self._stop.wait()
    time.sleep(1000)
Service.run, serve._PATIENCE_S = run, 0.5
main()
"""
    process = subprocess.Popen(
        [sys.executable, "-c", script, "serve"], cwd=scheduled.path, stdout=subprocess.PIPE, stderr=subprocess.PIPE
    )
    assert process.stdout
    process.stdout.readline()
    process.terminate()
    _, said = process.communicate(timeout=60)
    assert process.returncode == 6
    assert b"did not end within 0.5 s and is ended now" in said


_ODD = "a % b 'c' \"d\" $e"


def test_service_files_take_any_path_and_variables(tmp_path: Path) -> None:
    folder = tmp_path / _ODD
    folder.mkdir()
    assert historon("new", folder, "--store-only", cwd=tmp_path).code in (0, 4)
    text = SCHEDULED + '[credentials.c]\nuser = "x"\npassword = "env:FERRY_PW"\n'
    (folder / "historon.toml").write_text(text)
    estate = EstateFolder(folder)
    unit = estate.run("service-files", "systemd").out
    escaped = str(folder).replace("%", "%%").replace('"', '\\"')
    command = f'"{escaped.replace("$", "$$")}/historon.toml"'
    assert f"serve --estate {command}\n" in unit
    assert f'ReadWritePaths="{escaped}"' in unit
    assert "# Wanted: FERRY_PW" in unit
    assert f"EnvironmentFile={str(folder).replace('%', '%%')}/historon.env\n" in unit
    assert "PrivateTmp=no" in unit, "the estate is below /tmp"
    line = estate.run("service-files", "cron").out.splitlines()[-1]
    assert "\\%" in line
    shown = subprocess.run(
        ["sh", "-c", f'set -- {line.rpartition("--estate")[2]}; printf %s "$1"'.replace("\\%", "%")],
        capture_output=True,
        text=True,
        check=True,
    )
    assert shown.stdout == f"{folder}/historon.toml"
    said = estate.run("doctor").out
    assert "secrets are variables of the environment: FERRY_PW" in said
    assert "is a folder for temporary files" in said


def test_a_rehearsal_as_the_service_has_the_variables_of_its_file(scheduled: EstateFolder) -> None:
    text = (scheduled.path / "historon.toml").read_text()
    steps = 'steps = [{ keep = ["printenv", "X"], as = "x", environment = { X = "env:FERRY_PW" } }]'
    scheduled.write(text.replace('steps = [{ pull = "data" }]', steps))
    assert scheduled.run("rehearse", "files", "--as-service").code == 3
    (scheduled.path / "historon.env").write_text("# ours\nFERRY_PW='harbour light'\n")
    result = scheduled.run("rehearse", "files", "--as-service")
    assert result.code == 0, result.said
    assert "not imitated" in result.err
