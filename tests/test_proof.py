"""Proving versions: programs on a scratch folder, bounded, and a verdict that is never wider than what was run."""

import json
import os
import shutil
import signal
import sqlite3
import subprocess
from datetime import UTC, datetime, timedelta
from pathlib import Path

import pytest

import historon
from historon.restore import proof as proof_module
from tests.conftest import FILES_ESTATE, PROGRAM, EstateFolder
from tests.waiting import wait_for


def _estate(estate: EstateFolder, *proof: str, more: str = "") -> EstateFolder:
    commands = ", ".join(proof)
    estate.write(
        FILES_ESTATE.replace(
            'steps = [{ pull = "data" }]', f'steps = [{{ pull = "data" }}]\nproof = [{commands}]\n{more}'
        )
    )
    assert estate.run("collect").code == 0
    return estate


def test_a_version_that_would_do_says_so_for_good(files_estate: EstateFolder) -> None:
    _estate(files_estate, '["grep", "-q", "one", "{folder}/data/a.conf"]', '["sh", "-c", "test $PWD = {folder}"]')
    result = files_estate.run("prove")
    assert result.code == 0, result.said
    assert "files@1  proven 2" in result.out
    assert "1 of 1 version proven" in result.out
    assert "proven 2" in files_estate.run("versions", "files").out
    (files_estate.path / "data" / "a.conf").write_text("two\n")
    files_estate.run("collect")
    assert files_estate.run("prove", "files@1").code == 0, "an older one too"
    result = files_estate.run("prove", "--json")
    assert result.code == 1
    (row,) = result.rows
    assert (row["version"], row["verdict"]) == (2, "failed")
    assert row["why"] == "grep ended with 1"


@pytest.mark.parametrize(
    ("proof", "verdict", "why"),
    [
        ('["no-such-program-here"]', "unknown", "there is no program no-such-program-here"),
        ('["cat", "{nothing}"]', "unknown", "no step has learnt nothing"),
        ('["sh", "-c", "echo it is wrong >&2; exit 3"]', "failed", "sh ended with 3: it is wrong"),
        ('["sh", "-c", "kill -9 $$"]', "failed", "was ended by signal 9"),
        ('["sh", "-c", "sleep 600 & sleep 600"]', "failed", "did not end within 1s"),
        ('["true"], ["false"]', "failed", "false ended with 1"),
    ],
)
def test_what_was_not_shown_is_not_proven(files_estate: EstateFolder, proof: str, verdict: str, why: str) -> None:
    _estate(files_estate, proof, more='step_deadline = "1s"')
    result = files_estate.run("prove")
    assert result.code == 1
    assert f"files@1  {verdict}" in result.out
    assert why in result.out


def test_a_program_sees_little_and_reaches_nobody(files_estate: EstateFolder, tmp_path: Path) -> None:
    seen = tmp_path / "seen"
    _estate(
        files_estate, f'["sh", "-c", "env > {seen}; ls /sys/class/net > {seen}.net 2>&1; ls -a $HOME > {seen}.home"]'
    )
    assert files_estate.run("prove", SECRET_OF_MINE="canary").code == 0
    assert "canary" not in seen.read_text()
    assert "HISTORON" not in seen.read_text()
    assert Path(f"{seen}.home").read_text().split() == [".", ".."]


def test_the_scratch_folder_is_gone_afterwards(files_estate: EstateFolder, tmp_path: Path) -> None:
    _estate(files_estate, '["true"]')
    (tmp_path / "scratch").mkdir()
    assert files_estate.run("prove", TMPDIR=str(tmp_path / "scratch")).code == 0
    assert not list((tmp_path / "scratch").iterdir())


def test_what_a_killed_proof_leaves_is_removed_by_the_next_command(files_estate: EstateFolder, tmp_path: Path) -> None:
    began = tmp_path / "began"
    _estate(files_estate, f'["sh", "-c", "echo $$ > {began}; exec sleep 600"]', more='step_deadline = "10m"')
    scratch = tmp_path / "scratch"
    scratch.mkdir()
    environment = {"PATH": os.environ["PATH"], "TMPDIR": str(scratch), "HOME": str(tmp_path)}
    running = subprocess.Popen([PROGRAM, "prove"], cwd=files_estate.path, env=environment)
    wait_for(lambda: began.exists() and began.read_text().strip(), "the proof begins")

    def collect() -> None:
        subprocess.run([PROGRAM, "collect"], cwd=files_estate.path, env=environment, check=True, capture_output=True)

    collect()
    assert list(scratch.iterdir()), "somebody works there"
    running.kill()
    running.wait()
    os.kill(int(began.read_text()), signal.SIGKILL)
    assert list(scratch.iterdir())
    collect()
    assert not list(scratch.iterdir())


@pytest.mark.skipif(shutil.which("sqlite3") is None, reason="there is no sqlite3 program")
def test_a_database_is_opened_by_the_real_program(files_estate: EstateFolder) -> None:
    db = sqlite3.connect(files_estate.path / "data" / "book.db")
    db.execute("CREATE TABLE t (a)")
    db.commit()
    db.close()
    _estate(files_estate, '["sqlite3", "{folder}/data/book.db", "pragma integrity_check"]')
    assert files_estate.run("prove").code == 0


def test_the_real_web_server_tries_its_configuration(files_estate: EstateFolder) -> None:
    from tests.peers import program

    nginx = program("nginx")
    if nginx is None:
        pytest.skip("this machine does not have a web server")
    conf = files_estate.path / "data" / "nginx.conf"
    conf.write_text("pid p;\nerror_log stderr;\nevents {}\nhttp { access_log off; server { listen 8080; } }\n")
    proof = '["nginx", "-t", "-q", "-p", "{folder}/data", "-c", "{folder}/data/nginx.conf"]'
    _estate(files_estate, proof)
    assert files_estate.run("prove").code == 0, files_estate.run("prove").said
    conf.write_text(conf.read_text().replace("listen 8080;", "listn 8080;"))
    files_estate.run("collect")
    result = files_estate.run("prove")
    assert result.code == 1
    assert "nginx ended with 1" in result.out


def test_without_a_proof_nothing_is_said(files_estate: EstateFolder) -> None:
    assert files_estate.run("collect").code == 0
    result = files_estate.run("prove")
    assert result.code == 2
    assert "no procedure of these sources has a proof" in result.err
    result = files_estate.run("prove", "files")
    assert result.code == 2
    assert "has no proof" in result.err


_SERVED = """[timetables.t]
every = "1h"
[[sources]]
timetable = "t"
"""
_TOLD = '[channels.c]\nkind = "file"\npath = "told.jsonl"\nimmediately = true\n'


def _serve(estate: EstateFolder, text: str) -> None:
    """The service does what is due: one round with this export, and what follows it."""
    file = estate.path / "data" / "a.conf"
    if file.read_text() != text:  # else it is as it was, its times too
        file.write_text(text)
    store = estate.store()
    store.remember_all("timetable", {"files": (datetime.now(UTC) - timedelta(hours=2)).isoformat()})
    store.close()
    assert estate.run("serve", "--once").code in (0, 3)


def _kinds(estate: EstateFolder) -> list[str]:
    lines = (estate.path / "told.jsonl").read_text().splitlines() if (estate.path / "told.jsonl").exists() else []
    return [event["kind"] for line in lines for event in json.loads(line)["events"]]


def _served(estate: EstateFolder, more: str = "", when: str = "after rounds") -> EstateFolder:
    _estate(estate, '["grep", "-q", "good", "{folder}/data/a.conf"]', more=more)
    text = (estate.path / "historon.toml").read_text().replace("[[sources]]\n", _SERVED)
    text = text.replace('name = "Test"', f'name = "Test"\nprove = "{when}"', 1)
    estate.write(text.replace('max_age = "26h"\n', "") + _TOLD)
    return estate


def test_the_service_proves_what_is_new_and_tells_what_is_not_proven(files_estate: EstateFolder) -> None:
    estate = _served(files_estate)
    _serve(estate, "good\n")
    assert "proven 2" in estate.run("versions", "files").out
    assert estate.run("status").code == 0
    assert "proven" in estate.run("status").out
    assert "not-proven" not in _kinds(estate)
    _serve(estate, "bad\n")
    assert _kinds(estate).count("not-proven") == 1
    status = estate.run("status")
    assert status.code == 1, "it would not do"
    assert "1 NOT PROVEN" in status.out
    (row,) = estate.run("status", "--json").rows
    assert row["proof"].startswith("failed 2")
    _serve(estate, "bad\n")
    assert _kinds(estate).count("not-proven") == 1, "what is known is not told again at once"
    _serve(estate, "good again\n")
    assert "proven-again" in _kinds(estate)
    assert estate.run("status").code == 0


def test_a_proof_that_cannot_be_run_is_not_well(files_estate: EstateFolder) -> None:
    estate = _served(files_estate)
    estate.write((estate.path / "historon.toml").read_text().replace('"grep"', '"no-such-program-here"'))
    _serve(estate, "good\n")
    assert "not-proven" in _kinds(estate)
    assert estate.run("status").code == 1


def test_a_proof_that_nobody_foresaw_is_its_own_trouble(files_estate: EstateFolder) -> None:
    estate = _served(files_estate)
    store = estate.store()
    store.remember_all("timetable", {"files": (datetime.now(UTC) - timedelta(hours=2)).isoformat()})
    store.close()
    estate.write((estate.path / "historon.toml").read_text().replace('"-q"', r'"-q\u0000"'))
    served = [str(PROGRAM), "serve", "--once"]
    ended = subprocess.run(served, cwd=estate.path, capture_output=True, text=True, check=False, timeout=60)
    assert "unknown" in ended.stderr
    assert "not-proven" in _kinds(estate), ended.stderr
    assert "Traceback" not in ended.stderr


def test_where_a_proof_decides_a_version_that_fails_is_no_good_one(files_estate: EstateFolder) -> None:
    estate = _served(files_estate, more="proof_decides = true\n")
    _serve(estate, "good\n")
    good = estate.run("status", "--json").rows[0]["version"]
    _serve(estate, "bad\n")
    (row,) = estate.run("status", "--json").rows
    assert (row["version"], row["last_outcome"]) == (good, "suspect")
    assert "its proof failed: grep ended with 1" in estate.run("versions", "files", "--all").out
    count = len(estate.run("versions", "files", "--json", "--all").rows)
    _serve(estate, "bad\n")
    assert len(estate.run("versions", "files", "--json", "--all").rows) == count, "the same export is no new version"
    assert "whose proof failed" in estate.run("rounds", "--json").out + estate.run("status", "--json").out
    _serve(estate, "good again\n")
    (row,) = estate.run("status", "--json").rows
    assert row["version"] == count + 1
    assert estate.run("status").code == 0


def test_what_decides_nothing_is_refused(files_estate: EstateFolder) -> None:
    files_estate.write(
        FILES_ESTATE.replace('steps = [{ pull = "data" }]', 'steps = [{ pull = "data" }]\nproof_decides = true')
    )
    result = files_estate.run("sources")
    assert result.code == 4
    assert "proof_decides has no effect without a proof" in result.err


def test_a_proof_that_fills_the_disk_is_ended(files_estate: EstateFolder, monkeypatch: pytest.MonkeyPatch) -> None:
    """Many files, each of them small; the limit is made small for the test."""
    monkeypatch.setattr(proof_module, "_WRITTEN", 3 * 2**20)
    script = "i=0; while true; do dd if=/dev/zero of=f$i bs=64k count=4 2>/dev/null; i=$((i+1)); sleep 0.02; done"
    _estate(files_estate, f'["sh", "-c", "{script}"]', more='step_deadline = "100s"')
    with historon.open(files_estate.path) as estate:
        found = estate.version("files@1").prove()
    assert (found.verdict, found.why) == ("failed", "sh wrote more than 3.1 MB")


def test_the_lines_that_say_why_are_shown(files_estate: EstateFolder) -> None:
    script = "echo checking; echo '[emerg] no such directive in a.conf:3' >&2; echo 'test failed' >&2; exit 1"
    _estate(files_estate, f'["sh", "-c", "{script}"]')
    told = files_estate.run("prove")
    assert "sh ended with 1: [emerg] no such directive in a.conf:3" in told.out, "not only the last line"
    assert [line.strip() for line in told.out.splitlines()][1:4] == [
        "checking",
        "[emerg] no such directive in a.conf:3",
        "test failed",
    ]


def test_a_long_complaint_is_bounded_and_its_secrets_are_hidden(files_estate: EstateFolder) -> None:
    (files_estate.path / "data" / "a.conf").write_text("enable secret pw-canary-1234\n")
    _estate(files_estate, '["sh", "-c", "yes | head -5000; cat $1/data/a.conf; exit 1", "x", "{folder}"]')
    told = files_estate.run("prove")
    assert len(told.out.splitlines()) < 15
    assert "pw-canary" not in told.said


def test_a_verdict_holds_for_the_proof_that_gave_it(files_estate: EstateFolder) -> None:
    _estate(files_estate, '["true"]')
    assert files_estate.run("prove").code == 0
    assert "proven" in files_estate.run("status").out
    _estate(files_estate, '["false"]')
    status = files_estate.run("status")
    assert (status.code, "1 NOT PROVEN" in status.out) == (1, True), status.said
    (row,) = files_estate.run("status", "--json").rows
    assert row["proof"].startswith("unknown ")
    assert "the proof was changed since" in row["proof"]
    assert "proven" not in files_estate.run("versions", "files").out
    _estate(files_estate, '["true"]')
    assert files_estate.run("status").code == 0, "it is the one again that gave the verdict"


def test_of_several_those_that_can_be_tried_are(files_estate: EstateFolder) -> None:
    _estate(files_estate, '["true"]')
    other = '[procedures.plain]\nover = "local"\nsteps = [{ pull = "data" }]\n[[sources]]\nname = "plain"\nprocedure = "plain"\n'
    files_estate.write((files_estate.path / "historon.toml").read_text() + other)
    assert files_estate.run("collect").code == 0
    told = files_estate.run("prove", "files", "plain")
    assert told.code == 2, told.said
    assert "files@1  proven" in told.out
    assert "plain@1: the procedure plain has no proof" in told.err


def test_what_could_not_be_tried_is_not_said_to_have_failed(files_estate: EstateFolder) -> None:
    estate = _served(files_estate)
    estate.write((estate.path / "historon.toml").read_text().replace('"grep"', '"no-such-program-here"'))
    _serve(estate, "good\n")
    told = (estate.path / "told.jsonl").read_text()
    assert "could not be tested: there is no program no-such-program-here" in told
    assert "would not do" not in told
    assert "failed its test" not in told


def test_a_place_that_cannot_be_made_is_unknown(files_estate: EstateFolder) -> None:
    _estate(files_estate, '["true"]', more='proof_at = { "/no/such/place" = "data" }\n')
    told = files_estate.run("prove")
    assert (told.code, "unknown" in told.out) == (1, True), told.said
    _estate(files_estate, '["true"]', more='proof_at = { "/etc/x-of-the-proof" = "nothing" }\n')
    told = files_estate.run("prove")
    assert "unknown" in told.out
    assert "the version has no folder nothing" in told.out or "no mount namespace" in told.out
