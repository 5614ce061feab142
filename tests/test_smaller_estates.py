"""An estate that became smaller is reported; one that lost many sources changes nothing until a person confirms it."""

import json

import pytest

from tests.conftest import EstateFolder, collect, sampled

_HEAD = """
[estate]
name = "Test"
sources_from = "devices.csv"
[retention.core]
all = "7y"
[timetables.nightly]
at = "02:00"
[requirements_PLACE]
[channels.record]
kind = "file"
path = "told.jsonl"
tell = "trouble"
immediately = true
[procedures.files]
over = "local"
noise = ["^stamp"]
steps = [{ pull = "data", exclude = ["*.tmp"] }, { keep = ["echo", "{name}"], as = "name" }]
[defaults]
procedure = "files"
max_age = "26h"
retention = "core"
timetable = "nightly"
"""
_RULE = '[[requirements]]\nname = "has one"\nwhere = { role = "edge" }\npart = "data/*"\nmust = ["one"]\n'
HEAD = _HEAD.replace("[requirements_PLACE]\n", "") + _RULE


@pytest.fixture
def listed(estate: EstateFolder) -> EstateFolder:
    """Twenty sources in a list, all collected."""
    (estate.path / "data").mkdir()
    (estate.path / "data" / "a.conf").write_text("one\n")
    (estate.path / "data" / "b.conf").write_text("two\n")
    estate.write(HEAD)
    _list(estate, 20)
    assert collect(estate).code == 0
    return estate


def _list(estate: EstateFolder, number: int) -> None:
    rows = [f"edge-{n},edge" for n in range(1, number + 1)]
    estate.write("name,label.role\n" + "".join(f"{row}\n" for row in rows), "devices.csv")


def _last_round(estate: EstateFolder) -> int:
    """How many sources the last round visited."""
    number = estate.run("rounds", "--json").rows[0]["round"]
    return len(estate.run("rounds", str(number), "--json").rows)


def _told(estate: EstateFolder, kind: str) -> list[str]:
    file = estate.path / "told.jsonl"
    found = [json.loads(line) for line in file.read_text().splitlines()] if file.exists() else []
    events = [event for one in found for event in one.get("events", [one])]
    return [f"{one['message']} | {'; '.join(one['details'])}" for one in events if one["kind"] == kind]


def test_a_list_that_was_cut_changes_nothing_until_a_person_confirms_it(listed: EstateFolder) -> None:
    _list(listed, 3)
    assert collect(listed).code == 0
    assert _last_round(listed) == 20, "the list of before is used"
    (told,) = _told(listed, "sources-missing")
    assert "17 of 20 sources are missing from the new estate file (edge-10, edge-11, edge-12 and 14 more)" in told
    status = listed.run("status")
    assert status.code == 1
    assert "17 of 20 sources are missing" in status.out
    done = listed.run("sources", "retire", "--missing", "--because", "sold")
    assert (done.code, done.out.count("is retired: sold")) == (0, 17)
    assert listed.run("sources", "retire", "--missing", "--because", "sold").code == 2
    assert listed.run("status").code == 0
    assert collect(listed).code == 0
    assert _last_round(listed) == 3
    assert len(_told(listed, "well-again")) == 1
    (told,) = _told(listed, "estate-changed")
    assert "17 sources are missing from the list: edge-10, edge-11, edge-12, edge-13 and 13 more" in told


def test_a_list_with_nothing_but_its_header_changes_nothing(listed: EstateFolder) -> None:
    listed.write(HEAD.replace(_RULE, ""))
    _list(listed, 0)
    assert collect(listed).code == 0
    result = listed.run("status")
    assert result.code == 1
    assert "20 of 20 sources are missing" in result.said


def test_a_retired_source_that_is_described_again_can_be_lost_again(listed: EstateFolder) -> None:
    _list(listed, 19)
    assert listed.run("sources", "retire", "edge-20", "--because", "sold").code == 0
    assert listed.run("status").code == 0
    _list(listed, 20)
    assert collect(listed).code == 0
    _list(listed, 19)
    assert listed.run("status").code == 1


@pytest.mark.parametrize(
    ("old", "new", "said"),
    sampled(
        5,
        [
            ('all = "7y"', 'all = "7d"', 'retention.core.all is "7d", was "7y"'),
            ('exclude = ["*.tmp"]', 'exclude = ["*.tmp", "b*"]', "procedures.files.steps: pull = "),
            (', { keep = ["echo", "{name}"], as = "name" }', "", "procedures.files.steps: keep = "),
            ('noise = ["^stamp"]', 'noise = ["^stamp", "."]', 'procedures.files.noise: "." is new'),
            (
                'max_age = "26h"',
                'max_age = "26d"',
                "max_age is 26d, was 26h: edge-1, edge-10, edge-11, edge-12 and 16 more",
            ),
            ('timetable = "nightly"', "", "timetable is missing, was nightly: edge-1,"),
            ('at = "02:00"', 'at = "02:00"\nweekdays = ["mon"]', "timetables.nightly.weekdays is new: ['mon']"),
            ('tell = "trouble"', 'tell = "critical"', 'channels.record.tell is "critical", was "trouble"'),
            ('role = "edge"', 'role = "core"', 'requirement "has one" no longer applies: edge-1'),
            (_RULE, "", 'requirements: "has one" is removed'),
            ('name = "Test"', 'name = "Test"\nprune_limit = "90%"', 'estate.prune_limit is new: "90%"'),
        ],
    ),
)
def test_each_setting_that_became_less_is_reported(listed: EstateFolder, old: str, new: str, said: str) -> None:
    assert old in HEAD
    text = HEAD.replace(old, new)
    if "core" in new and "role" in new:
        text += '[[sources]]\nname = "c"\nlabels = { role = "core" }\n'
    listed.write(text)
    collect(listed)
    told = "".join(_told(listed, "estate-changed")) if "critical" not in new else said
    assert said in told, told


def test_additions_and_comments_are_no_news(listed: EstateFolder) -> None:
    listed.write("# looked at\n" + HEAD + '[retention.more]\nall = "9y"\n')
    _list(listed, 22)
    assert collect(listed).code == 0
    assert not _told(listed, "estate-changed")


def test_an_invalid_file_is_reported_to_those_whom_the_last_one_names(listed: EstateFolder) -> None:
    listed.write(HEAD.replace("[defaults]", "[defaults"))
    assert listed.run("collect").code == 4
    (told,) = _told(listed, "estate-refused")
    assert "the previous settings stay in effect" in told
    listed.run("collect")
    assert len(_told(listed, "estate-refused")) == 1, "once"
    listed.write(HEAD)
    assert collect(listed).code == 0
    assert len(_told(listed, "estate-accepted")) == 1


def test_a_service_with_an_invalid_file_goes_on_by_the_last_accepted_one(listed: EstateFolder) -> None:
    assert listed.run("serve", "--once").code == 0
    before = len(listed.run("rounds", "--json").rows)
    listed.write(HEAD.replace('procedure = "files"', 'procedure = "nobody"'))
    result = listed.run("serve", "--once")
    assert result.code == 4
    assert "the last accepted one is used" in result.err
    assert len(_told(listed, "estate-refused")) == 1
    assert len(listed.run("rounds", "--estate", str(listed.path), "--json").said) > 0
    assert before >= 1


def test_without_a_file_accepted_before_an_invalid_one_is_an_error(estate: EstateFolder) -> None:
    estate.write("[estate\n")
    assert estate.run("serve", "--once").code == 4
    assert estate.run("collect").code == 4


def test_a_service_that_finds_no_store_reports_it_once_a_day(listed: EstateFolder) -> None:
    files_estate = listed
    collect(files_estate)
    told = files_estate.path / "told.jsonl"
    before = len(told.read_text().splitlines()) if told.exists() else 0
    store = files_estate.path / "store"
    store.rename(files_estate.path / "away")
    for _ in range(3):  # as systemd starts it again and again
        assert files_estate.run("serve", "--once").code == 5
    lines = [json.loads(line) for line in told.read_text().splitlines()][before:]
    assert [event["kind"] for line in lines for event in line["events"]] == ["store-trouble"]
    assert "the service cannot start, and nothing is collected" in lines[0]["events"][0]["message"]
    (files_estate.path / "away").rename(store)
    assert files_estate.run("serve", "--once").code == 0
    assert not (files_estate.path / ".historon-not-started").exists()
