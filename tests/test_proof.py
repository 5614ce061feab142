"""Proving versions: programs on a scratch folder, bounded, and a verdict that is never wider than what was run."""

import shutil
import sqlite3
from pathlib import Path

import pytest

from tests.conftest import FILES_ESTATE, EstateFolder


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
        ('["cat", "{nothing}"]', "unknown", "nothing is known as nothing"),
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
