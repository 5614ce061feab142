"""Services that are paused for an export: whatever becomes of Historon meanwhile, they are resumed, or reported."""

import json
import os
import subprocess

import pytest

from historon.standins.purser import Purser, PurserFault
from tests.conftest import PROGRAM, EstateFolder

_PAUSING = """
[estate]
name = "Test"
[procedures.p]
over = "local"
retry_pause = "50ms"
steps = [
    { pause = ["purser/purserctl", "pause"], resume = ["purser/purserctl", "resume"], probe = ["purser/purserctl", "state"], until = { holds = ["is running"] }, every = "20ms", within = "2s", steps = [{ pull = "purser/data", as = "data" }, { send = ["sh", "inside.sh"] }] },
]
[procedures.files]
over = "local"
steps = [{ pull = "other", as = "x" }]
[timetables.night]
at = "02:30"
[channels.c]
kind = "file"
path = "told.jsonl"
immediately = true
[[sources]]
name = "s"
procedure = "p"
timetable = "night"
[[sources]]
name = "other"
procedure = "files"
"""


@pytest.fixture
def purser(estate: EstateFolder) -> Purser:
    made = Purser(estate.path / "purser")
    made.write({"a.conf": "one\n"})
    (estate.path / "other").write_text("x\n")
    estate.write(_PAUSING)
    return made


@pytest.fixture
def killed(estate: EstateFolder, purser: Purser) -> Purser:
    """A file server that Historon paused before it was killed."""
    os.mkfifo(estate.path / "inside")
    (estate.path / "inside.sh").write_text("echo $$ > inside; exec sleep 600\n")
    process = subprocess.Popen([PROGRAM, "collect", "s"], cwd=estate.path)
    helper = int((estate.path / "inside").read_text())  # waits until it is there
    process.kill()
    process.wait()
    os.kill(helper, 9)
    (estate.path / "inside.sh").write_text("exit 0\n")
    assert not purser.running
    return purser


def _kinds(estate: EstateFolder) -> list[str]:
    file = estate.path / "told.jsonl"
    notices = [json.loads(line) for line in file.read_text().splitlines()] if file.exists() else []
    return [event["kind"] for notice in notices for event in notice["events"]]


def test_status_shows_it_first_and_every_command_tells_of_it(estate: EstateFolder, killed: Purser) -> None:
    result = estate.run("status")
    assert result.code == 1
    assert result.out.startswith("1 SERVICE NOT RESUMED")
    assert "resume it by hand, now: purser/purserctl resume" in result.out
    data = estate.run("status", "--json")
    assert data.code == 1
    (paused,) = [one for one in data.data["conditions"] if one["kind"] == "not-resumed"]
    assert (paused["source"], "purser/purserctl resume" in paused["advice"]) == ("s", True)
    for command in (["rounds"], ["versions", "s"], ["prune"]):
        assert "SERVICE NOT RESUMED: s: Historon ended while it was paused" in estate.run(*command).err, command
    found = estate.run("doctor")
    assert found.code == 1
    assert "its service was paused and is NOT RESUMED" in found.out
    assert "resume it by hand, now: purser/purserctl resume" in found.out


@pytest.mark.parametrize(
    "command",
    [["serve", "--once"], ["collect", "other"], ["collect"]],
    ids=["the service", "a round of another source", "a round of all"],
)
def test_whoever_comes_next_resumes_it(estate: EstateFolder, killed: Purser, command: list[str]) -> None:
    result = estate.run(*command)
    assert result.code == 0, result.said
    assert killed.running
    assert "the service of s was left paused, and is resumed" in result.said
    assert "resumed" in _kinds(estate)
    assert not estate.run("status").out.startswith("1 SERVICE")
    assert "NOT RESUMED" not in estate.run("rounds").said


def test_a_service_that_runs_already_resumes_it(estate: EstateFolder, purser: Purser) -> None:
    process = subprocess.Popen([PROGRAM, "serve"], cwd=estate.path, stderr=subprocess.PIPE, text=True)
    assert process.stderr is not None
    assert any("on schedule" in line for line in process.stderr)
    os.mkfifo(estate.path / "inside")
    (estate.path / "inside.sh").write_text("echo $$ > inside; exec sleep 600\n")
    collecting = subprocess.Popen([PROGRAM, "collect", "s"], cwd=estate.path)
    helper = int((estate.path / "inside").read_text())
    collecting.kill()
    collecting.wait()
    os.kill(helper, 9)
    assert any("the service of s was left paused, and is resumed" in line for line in process.stderr)
    assert purser.running
    process.terminate()
    process.communicate(timeout=60)


@pytest.mark.parametrize("fault", [PurserFault.STUCK, PurserFault.DEAD])
def test_one_that_cannot_be_resumed_is_the_gravest_event(
    estate: EstateFolder, killed: Purser, fault: PurserFault
) -> None:
    killed.break_down(fault)
    result = estate.run("collect", "other")
    assert result.code == 3
    assert "SERVICE NOT RESUMED: s: 3 tries failed" in result.err
    assert _kinds(estate).count("not-resumed") == 1
    assert estate.run("serve", "--once").code != 0
    assert _kinds(estate).count("not-resumed") == 1, "told once, and not by every command"
    assert estate.run("status").code == 1
    killed.break_down(None)
    assert estate.run("serve", "--once").code == 0
    assert killed.running
    assert _kinds(estate).count("resumed") == 1


def test_what_is_paused_by_one_that_is_at_it_is_left_alone(estate: EstateFolder, purser: Purser) -> None:
    os.mkfifo(estate.path / "inside")
    os.mkfifo(estate.path / "go")
    (estate.path / "inside.sh").write_text("echo > inside; read line < go\n")
    process = subprocess.Popen([PROGRAM, "collect", "s"], cwd=estate.path, stdout=subprocess.DEVNULL)
    (estate.path / "inside").read_text()
    assert estate.run("collect", "other").code == 0
    assert "NOT RESUMED" not in estate.run("status").out
    assert not purser.running, "nobody resumes it under the hands of the one that paused it"
    (estate.path / "go").write_text("\n")
    assert process.wait() == 0
    assert purser.running


def test_one_that_is_no_longer_described_is_told_of(estate: EstateFolder, killed: Purser) -> None:
    estate.write(
        _PAUSING[: _PAUSING.index('[[sources]]\nname = "s"')] + '[[sources]]\nname = "other"\nprocedure = "files"\n'
    )
    result = estate.run("collect")
    assert result.code == 3
    assert "SERVICE NOT RESUMED: s: the estate file no longer has this source" in result.err
    assert not killed.running
