"""When an export was made, by its own account, and exports that are taken twice."""

import mailbox
import os
from collections.abc import Callable
from datetime import UTC, datetime, timedelta
from email.utils import format_datetime
from pathlib import Path
from typing import Any
from zoneinfo import ZoneInfo

import pytest
from hypothesis import given
from hypothesis import strategies as st

from historon.collect.newest import newest_of
from historon.standins.background import Background
from historon.standins.fairlead import Fairlead
from historon.standins.web import Reply, Request, WebServer
from tests.conftest import EstateFolder, collect, describe_estate, parts_of
from tests.test_arrivals import letter

_NOW = datetime.now(UTC)
_LONG_AGO, _LATELY, _AHEAD = _NOW - timedelta(days=20), _NOW - timedelta(hours=2), _NOW + timedelta(days=2)
_TEXT = "hostname edge-1\n! saved at {}\nend\n"


class _Dated(WebServer):
    """A server that says when what it serves was changed."""

    at: datetime | None = _LONG_AGO

    def answer(self, request: Request) -> Reply:
        head = {"last-modified": format_datetime(self.at, usegmt=True)} if self.at else {}
        return Reply(b"hostname edge-1\nend\n", headers=head)


def _file(
    estate: EstateFolder, name: str, at: datetime, text: str = "hostname edge-1\nend\n", folder: str = ""
) -> None:
    file = estate.path / folder / name
    file.parent.mkdir(exist_ok=True)
    file.write_text(text)
    os.utime(file, (at.timestamp(), at.timestamp()))


def _local(steps: str, write: Callable[[EstateFolder, datetime], None]) -> Any:
    def make(estate: EstateFolder) -> Callable[[datetime], None]:
        describe_estate(estate, over="local", steps=steps, source='max_age = "26h"')
        return lambda at: write(estate, at)

    return make


def _named(estate: EstateFolder, at: datetime) -> None:
    for old in estate.path.glob("e-*.cfg"):
        old.unlink()
    _file(estate, f"e-{at:%Y%m%d-%H%M}.cfg", _NOW)


def _milliseconds(estate: EstateFolder, at: datetime) -> None:
    _file(estate, "e.json", _NOW, f'{{"meta": {{"made": {int(at.timestamp() * 1000)}}}, "ports": [1]}}\n')


_PLACES = {
    "the time of the file": _local('{ pull = "e.cfg", dated = "time" }', lambda estate, at: _file(estate, "e.cfg", at)),
    "the newest file of a folder": _local(
        '{ pull = "data", dated = "time" }', lambda estate, at: _file(estate, "e.cfg", at, folder="data")
    ),
    "its name": _local(
        """{ pull = "e-*.cfg", newest = "time", as = "e.cfg", dated = 'name:-([0-9-]+)', dated_as = "%Y%m%d-%H%M" }""",
        _named,
    ),
    "its text, in a form": _local(
        """{ pull = "e.cfg", dated = 'pattern:saved at (.*)', dated_as = "%d %b %Y %H:%M:%S" }""",
        lambda estate, at: _file(estate, "e.cfg", _NOW, _TEXT.format(at.strftime("%d %b %Y %H:%M:%S"))),
    ),
    "what a program prints": _local(
        """{ keep = ["cat", "e.cfg"], as = "e.cfg", dated = 'pattern:saved at (.*)' }""",
        lambda estate, at: _file(estate, "e.cfg", _NOW, _TEXT.format(at.isoformat())),
    ),
    "a document, in milliseconds": _local('{ pull = "e.json", dated = "json:/meta/made" }', _milliseconds),
}


@pytest.mark.parametrize("place", _PLACES)
def test_age_counts_from_when_the_export_was_made(estate: EstateFolder, place: str) -> None:
    write = _PLACES[place](estate)
    write(_LATELY)
    assert collect(estate).code == 0
    assert estate.run("status").code == 0
    write(_LONG_AGO)
    collect(estate)
    result = estate.run("status")
    assert result.code == 1
    assert "1 OVERDUE of 1 source" in result.out
    assert "20d of 26h, no new export" in result.out
    row = estate.run("status", "--json").rows[0]
    assert (row["age"], row["dated"][:10]) == ("overdue", f"{_LONG_AGO:%Y-%m-%d}")
    write(_LATELY)
    collect(estate)
    assert estate.run("status").code == 0


def test_a_date_that_is_missing_or_ahead_makes_the_age_unknown(estate: EstateFolder) -> None:
    describe_estate(
        estate, over="local", steps="""{ pull = "e.cfg", dated = 'pattern:saved at (.*)' }""", source='max_age = "26h"'
    )
    _file(estate, "e.cfg", _NOW)
    assert "the age of e.cfg is unknown: the answer has no pattern:saved at (.*)" in collect(estate).out
    result = estate.run("status")
    assert (result.code, "1 of UNKNOWN AGE" in result.out, "no date in it" in result.out) == (1, True, True)
    _file(estate, "e.cfg", _NOW, _TEXT.format("yesterday"))
    assert '"yesterday" is not a time' in collect(estate).out
    _file(estate, "e.cfg", _NOW, _TEXT.format(_AHEAD.isoformat()))
    assert "is in the future" in collect(estate).out
    assert estate.run("status").code == 1
    describe_estate(estate, over="local", steps='{ pull = "e.cfg" }', source='max_age = "26h"')
    collect(estate)
    assert estate.run("status").code == 0, "without dated it counts from the round"


def test_a_server_says_when_what_it_serves_was_made(estate: EstateFolder, tmp_path: Path) -> None:
    device = _Dated("dated", tmp_path / "dated")
    device.start()
    try:
        for verb in ('pull = "/e.cfg"', 'keep = "/e.cfg", as = "e.cfg"'):
            reached = (
                f'address = "127.0.0.1"\nport = {device.port}\ncredentials = "c"\ncertificate = "{device.fingerprint}"'
            )
            describe_estate(
                estate, over="https", steps=f'{{ {verb}, dated = "time" }}', source=f'max_age = "26h"\n{reached}'
            )
            device.at = _LONG_AGO
            collect(estate)
            assert "20d of 26h, no new export" in estate.run("status").out
            device.at = None
            assert "the source does not report the time of the file" in collect(estate).out
    finally:
        device.stop()


def test_files_of_a_device_have_their_time(estate: EstateFolder, background: Background, tmp_path: Path) -> None:
    device = Fairlead("b", tmp_path / "balancer", dict)
    background.run(device.start())
    reached = f'address = "127.0.0.1"\nport = {device.port}\ncredentials = "c"\nhost_key = "{device.fingerprint}"'
    describe_estate(
        estate,
        over="ssh-exec",
        steps='{ pull = "/export/e.cfg", dated = "time" }',
        source=f'max_age = "26h"\n{reached}',
    )
    file = tmp_path / "balancer" / "export" / "e.cfg"
    file.write_text("hostname b\n")
    os.utime(file, (_LONG_AGO.timestamp(), _LONG_AGO.timestamp()))
    collect(estate, "-v")
    assert "20d of 26h, no new export" in estate.run("status").out
    background.run(device.stop())


def test_a_letter_has_a_date(estate: EstateFolder) -> None:
    box = mailbox.Maildir(str(estate.path / "mail"))
    describe_estate(
        estate,
        over="mailbox",
        steps='{ pull = "*.cfg", dated = "time" }',
        procedure='folder = "mail"',
        source='max_age = "26h"',
    )
    box.add(letter(0, b"hostname a\n"))  # of June
    collect(estate)
    assert " of 26h, no new export" in estate.run("status").out


def test_what_arrives_again_and_again_with_an_old_date_is_overdue(estate: EstateFolder) -> None:
    describe_estate(
        estate,
        over="drop-folder",
        steps="""{ pull = "e.cfg", complete = "ends:end", dated = 'pattern:saved at (.*)' }""",
        procedure='folder = "drop"',
        source='max_age = "26h"',
    )
    for hours in (2, 1):
        _file(estate, "e.cfg", _NOW - timedelta(hours=hours), _TEXT.format(_LONG_AGO.isoformat()), folder="drop")
        assert collect(estate).code == 0
    assert "20d of 26h, no new export" in estate.run("status").out


def test_the_notice_says_that_it_stopped_being_made(estate: EstateFolder) -> None:
    estate.write("""
[estate]
name = "Test"
[timetables.often]
every = "1m"
[procedures.p]
over = "local"
steps = [{ pull = "e.cfg", dated = "time" }]
[[sources]]
name = "s"
procedure = "p"
max_age = "26h"
timetable = "often"
""")
    _file(estate, "e.cfg", _LONG_AGO)
    collect(estate)
    assert "it stopped being made: its export is dated 20d ago, max_age is 26h" in estate.run("serve", "--once").err


def test_mistakes_of_a_date(estate: EstateFolder) -> None:
    for step, words in (
        ('dated = "saved at"', "not a place in an answer"),
        ("dated = 'name:('", "not a regular expression"),
        ('dated = "time", dated_as = "%Y"', "dated_as has no effect alone"),
        ('dated_as = "%Y"', "dated_as has no effect alone"),
    ):
        describe_estate(estate, over="local", steps=f'{{ pull = "e.cfg", {step} }}')
        result = estate.run("doctor")
        assert (result.code, words in result.err) == (4, True), result.err


# ---- two exports -----------------------------------------------------------------------------------------------------

_COUNTING = (
    """{ keep = ["sh", "-c", "echo x >> runs; echo hostname a; echo counted $(wc -l < runs); cat more"], as = "a" }"""
)


def test_two_exports_agree_up_to_noise_or_it_fails(estate: EstateFolder) -> None:
    (estate.path / "more").write_text("end\n")
    describe_estate(estate, over="local", steps=_COUNTING, procedure="collect_twice = true")
    result = collect(estate)
    assert (result.code, "two exports in a row differ in a" in result.err) == (3, True)
    assert "collect it later, or mask the differences as noise" in result.err
    describe_estate(estate, over="local", steps=_COUNTING, procedure="collect_twice = true\nnoise = ['^counted']")
    before = len((estate.path / "runs").read_text().splitlines())
    assert collect(estate).code == 0
    assert len((estate.path / "runs").read_text().splitlines()) == before + 2
    recorded = _COUNTING.replace('as = "a"', 'as = "a", record_only = true')
    describe_estate(estate, over="local", steps=f'{recorded}, {{ pull = "more" }}', procedure="collect_twice = true")
    assert collect(estate).code == 0, "what is only recorded may differ"


def test_what_arrives_cannot_be_collected_twice(estate: EstateFolder) -> None:
    steps = '{ pull = "e.cfg", complete = "ends:end" }'
    describe_estate(estate, over="drop-folder", steps=steps, procedure='folder = "drop"\ncollect_twice = true')
    assert "collect_twice has no effect over drop-folder" in estate.run("doctor").err


# ---- which is the newest ---------------------------------------------------------------------------------------------

_OSLO = ZoneInfo("Europe/Oslo")


@pytest.mark.parametrize(
    ("values", "newest", "remark"),
    [
        (["31.12.2025", "02.01.2026"], "02.01.2026", ""),
        (["9", "10"], "10", ""),
        ([9, 10.5, None], 10.5, ""),
        (["2026-01-01T00:30:00+02:00", "2025-12-31T23:00:00Z"], "2025-12-31T23:00:00Z", ""),
        (["12/31/2025", "01/02/2026"], "01/02/2026", ""),
        (["31/12/2025 10:00", "01/02/2026 09:00"], "01/02/2026 09:00", ""),
        (["backup-9", "backup-10", "backup-2"], "backup-10", ""),
        (["2026-01-01", "2096-01-01"], "2026-01-01", "1 of 2 are dated in the future"),
        (["2096-01-01"], "2096-01-01", ""),
        (["2026-01-01", "latest"], "latest", "compared as names"),
        (["Mon, 05 Jan 2026 10:00:00 GMT", "Tue, 06 Jan 2026 10:00:00 GMT"], "Tue, 06 Jan 2026 10:00:00 GMT", ""),
    ],
)
def test_the_newest_is_told_by_what_values_mean(values: list[Any], newest: Any, remark: str) -> None:
    at, said = newest_of(values, _NOW, _OSLO)
    assert values[at] == newest
    assert (remark in said) if remark else said == ""


def test_dates_that_may_be_read_in_two_ways_are_refused() -> None:
    with pytest.raises(ValueError, match="may be by day or by month first"):
        newest_of(["01/02/2026", "03/04/2026"], _NOW, _OSLO)


@given(st.lists(st.datetimes(datetime(2000, 1, 1), datetime(2026, 6, 1)), min_size=2, max_size=6, unique=True))
def test_in_whatever_form_instants_are_written_the_newest_is_the_same(instants: list[datetime]) -> None:
    instants = [one.replace(microsecond=0, second=0) for one in instants]
    wanted = max(instants)
    for form in ("%Y-%m-%d %H:%M", "%d.%m.%Y %H:%M", "%Y-%m-%dT%H:%M:00+00:00"):
        at, _ = newest_of([one.strftime(form) for one in instants], _NOW, ZoneInfo("UTC"))
        assert instants[at] == wanted


@pytest.mark.parametrize("by", ["time", "name"])
def test_the_newest_file_is_neither_told_by_letters_nor_pinned_by_one_of_the_future(
    estate: EstateFolder, by: str
) -> None:
    describe_estate(estate, over="local", steps=f'{{ pull = "b-*.cfg", newest = "{by}", as = "b.cfg" }}')
    for number, at in ((8, _LONG_AGO), (9, _LONG_AGO), (10, _LATELY)):
        _file(estate, f"b-{number}.cfg", at, f"hostname b{number}\nend\n")
    _file(estate, "b-2.cfg", datetime(2096, 1, 1, tzinfo=UTC), "hostname future\nend\n")
    result = collect(estate)
    assert parts_of(estate) == {"b.cfg": b"hostname b10\nend\n"}
    assert ("1 of 4 files have a time in the future, and were ignored" in result.said) == (by == "time")
