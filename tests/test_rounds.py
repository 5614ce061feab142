"""The engine of rounds: limits by label and jump host, interruption and what is done afterwards."""

import json
import os
import signal
import subprocess
from pathlib import Path

from tests.conftest import PROGRAM, EstateFolder
from tests.waiting import wait_for

_SCRIPT = """
now=$(ls busy | wc -l); touch busy/$$; echo $(ls busy | wc -l) >> most
n=0; while [ $n -lt 30 ]; do n=$((n+1)); : $(ls busy); done
rm busy/$$; echo done
"""


def _many(estate: EstateFolder, count: int, settings: str, labels: str) -> EstateFolder:
    (estate.path / "work.sh").write_text(_SCRIPT)
    (estate.path / "busy").mkdir(exist_ok=True)
    sources = "".join(f'[[sources]]\nname = "s{n}"\nprocedure = "p"\n{labels}\n' for n in range(count))
    estate.write(
        f'[estate]\nname = "T"\n{settings}\n[procedures.p]\nover = "local"\nsteps = [{{ keep = ["sh", "work.sh"], as = "x" }}]\n{sources}'
    )
    return estate


def _most(estate: EstateFolder) -> int:
    return max(map(int, (estate.path / "most").read_text().split()))


def test_at_most_so_many_with_the_same_label(estate: EstateFolder) -> None:
    _many(estate, 8, "at_once = 8\nat_once_by = { site = 1 }", 'labels = { site = "quay" }')
    assert estate.run("collect").code == 0
    assert _most(estate) == 1
    (estate.path / "most").unlink()
    _many(estate, 8, "at_once = 8", 'labels = { site = "quay" }')
    assert estate.run("collect").code == 0
    assert _most(estate) > 1


def test_an_interrupted_round_is_finished_later(estate: EstateFolder) -> None:
    assert "nothing is left to collect" in _many(estate, 4, "", "").run("collect", "--unfinished").out
    (estate.path / "work.sh").write_text("test -e go && echo x && exit; touch waiting; sleep 60\n")
    text = (estate.path / "historon.toml").read_text().replace('name = "T"', 'name = "T"\nat_once = 1')
    quick = '[procedures.q]\nover = "local"\nsteps = [{ keep = ["echo", "q"], as = "x" }]\n[[sources]]\nname = "quick"\nprocedure = "q"\n'
    estate.write(text.replace("[[sources]]", quick + "[[sources]]", 1))
    process = subprocess.Popen([PROGRAM, "collect"], cwd=estate.path, stdout=subprocess.DEVNULL, env={**os.environ})
    wait_for((estate.path / "waiting").exists)
    process.send_signal(signal.SIGTERM)
    assert process.wait(20) == 130
    (estate.path / "go").touch()
    result = estate.run("collect", "--unfinished")
    assert result.code == 0
    assert "4 sources" in result.out
    assert "quick" not in result.said
    assert "nothing is left to collect" in estate.run("collect", "--unfinished").said


def test_a_round_cut_short_is_finished_later(estate: EstateFolder, tmp_path: Path) -> None:
    _many(estate, 3, "", "")
    (estate.path / "work.sh").write_text("touch waiting; exec sleep 60\n")
    process = subprocess.Popen([PROGRAM, "collect"], cwd=estate.path, stdout=subprocess.DEVNULL)
    wait_for((estate.path / "waiting").exists)
    process.kill()
    process.wait()
    (estate.path / "work.sh").write_text("echo x\n")
    assert "3 sources" in estate.run("collect", "--unfinished").out


def test_a_round_that_runs_is_not_cut_short_and_one_that_died_is(estate: EstateFolder) -> None:
    _many(estate, 1, "", "")
    text = (estate.path / "historon.toml").read_text()
    estate.write(
        text
        + '[channels.c]\nkind = "file"\npath = "told.jsonl"\n[[sources]]\nname = "bad"\nprocedure = "none"\n[procedures.none]\nover = "local"\nsteps = [{ pull = "nowhere" }]\n'
    )
    os.mkfifo(estate.path / "inside")
    (estate.path / "work.sh").write_text("echo $$ > inside; exec sleep 600\n")
    process = subprocess.Popen([PROGRAM, "collect"], cwd=estate.path, stdout=subprocess.PIPE, text=True)
    helper = int((estate.path / "inside").read_text())
    assert process.stdout is not None
    assert any(line.startswith("bad") for line in process.stdout)
    assert "running" in estate.run("rounds").out
    assert estate.run("rounds", "--json").rows[0]["ending"] == "running"
    assert "round 1 did not end" not in estate.run("doctor").out
    assert "c: 1 event waits until round 1 ends" in estate.run("notices").out
    assert "nothing is left to collect" in estate.run("collect", "--unfinished").said
    process.kill()
    process.communicate()
    os.kill(helper, 9)
    assert "interrupted" in estate.run("rounds").out
    assert estate.run("rounds", "--json").rows[0]["ending"] == "interrupted"
    assert "round 1 did not end" in estate.run("doctor").out


def test_failures_with_one_cause_are_told_once(estate: EstateFolder) -> None:
    sources = "".join(
        f'[[sources]]\nname = "web-{n}"\nprocedure = "p"\naddress = "127.0.0.1"\nport = 1\n' for n in range(7)
    )
    estate.write(
        '[estate]\nname = "T"\n[procedures.p]\nover = "https"\ntries = 1\nsteps = [{ keep = "/{name}", as = "x" }]\n'
        '[procedures.q]\nover = "local"\nsteps = [{ pull = "nowhere" }]\n'
        f'[channels.c]\nkind = "file"\npath = "told.jsonl"\n{sources}[[sources]]\nname = "other"\nprocedure = "q"\n'
    )
    result = estate.run("collect")
    assert result.code == 3
    assert result.said.count("  what     ") == 2
    assert "(7 sources, for the same reason)" in result.err
    told = json.loads((estate.path / "told.jsonl").read_text())
    assert told["subject"].startswith("8 FAILED of 8")
    assert (
        "web-0, web-1, web-2, web-3, web-4, web-5 and 1 more: could not be collected, all 7 for the same reason"
        in told["text"]
    )
    assert told["text"].count("refused") == 1
    assert len(told["events"]) == 9, "programs have each of them"
