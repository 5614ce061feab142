"""Looking after the estate file: doctor, sources add, import and pin, procedures, standins."""

import os
import re
import signal
import subprocess
from collections.abc import Callable
from pathlib import Path

import pytest

from historon.standins.background import Background
from historon.standins.capstan import Capstan
from historon.standins.tidewall import Tidewall
from tests.conftest import FILES_ESTATE, PROGRAM, EstateFolder, describe_estate, historon

RouterEstate = Callable[..., EstateFolder]


def test_a_healthy_estate_has_nothing_wrong(files_estate: EstateFolder) -> None:
    files_estate.run("collect")
    result = files_estate.run("doctor")
    assert result.code == 0
    assert "nothing found wrong" in result.out
    assert "no retention: every version stays" in result.out


def test_the_doctor_finds_what_will_go_wrong_and_says_what_to_do(estate: EstateFolder) -> None:
    describe_estate(
        estate,
        over="local",
        steps='{ keep = ["no-such-program"], as = "x" }',
        procedure='needs = { mount = "nowhere" }',
        more="""
[credentials.a]
user = "Admin"
password = "env:NOT_SET"
[credentials.k]
user = "reader"
key = "file:keys/open"
[procedures.old]
over = "telnet"
prompt = '#'
steps = [{ keep = "x", as = "x" }]
[jumps.j]
address = "x"
credentials = "a"
[[sources]]
name = "d"
procedure = "drop-folder"
values = { drop = "not-there" }
""",
    )
    (estate.path / "keys" / "open").write_text("x")
    (estate.path / "keys" / "open").chmod(0o644)
    (estate.path / "store").chmod(0o755)
    (estate.path / "historon.toml").chmod(0o666)
    result = estate.run("doctor", PW="x", UP="x")
    assert result.code == 1
    for told in (
        "there is no program no-such-program",
        "nothing is mounted at",
        'the account is called "Admin"',
        "env:NOT_SET: this variable is not set",
        "others can read or change",
        "chmod 600",
        "others can change",
        "chmod go-w",
        "Telnet sends the password in the clear",
        "procedures old",
        "nothing uses it",
        "jumps j",
        "never collected",
        "not-there is missing or unreadable",
        "no max_age: missing exports would not be noticed",
    ):
        assert told in result.out, told
    data = estate.run("doctor", "--json").rows
    assert data[0]["severity"] == "wrong"
    assert {"about", "what", "hint"} <= data[0].keys()


def test_a_program_that_only_a_login_shell_finds_is_wrong(files_estate: EstateFolder, tmp_path: Path) -> None:
    (tmp_path / "bin").mkdir()
    (tmp_path / "bin" / "exporter").write_text("#!/bin/sh\necho x\n")
    (tmp_path / "bin" / "exporter").chmod(0o755)
    files_estate.write(FILES_ESTATE.replace('{ pull = "data" }', '{ keep = ["exporter"], as = "x" }'))
    path = f"{tmp_path}/bin:{os.environ['PATH']}"
    assert files_estate.run("collect", PATH=path).code == 0
    result = files_estate.run("doctor", PATH=path)
    assert result.code == 1
    assert "exporter is not on the short PATH that a scheduler has" in result.out
    assert f"write {tmp_path}/bin/exporter" in result.out


# Sources


def test_adding_a_source_keeps_the_file_as_it_is(files_estate: EstateFolder) -> None:
    uses = FILES_ESTATE.replace('pull = "data"', 'pull = "{x}"').replace(
        "[[sources]]", 'values = { x = "data" }\n[[sources]]'
    )
    before = uses + "# a last comment\n"
    files_estate.write(before)
    result = files_estate.run("sources", "add", "more", "procedure=files", "label.site=quay", "value.x=y", "max_age=2d")
    assert result.code == 0, result.said
    text = (files_estate.path / "historon.toml").read_text()
    assert text.startswith(before.rstrip())
    assert 'labels = {site = "quay"}' in text
    listed = files_estate.run("sources", "--json").rows
    assert [row["source"] for row in listed] == ["files", "more"]
    assert "more" in files_estate.run("sources", "--where", "site=quay").out


@pytest.mark.parametrize(
    ("arguments", "told"),
    [
        (["more", "procedure=filez"], 'there is no "filez" (did you mean "files"?)'),
        (["files", "procedure=files"], 'a second source is named "files"'),
        (["more", "procedur=files"], "this key is not known"),
        (["more", "procedure"], '"procedure" is not KEY=VALUE'),
        (["a b", "procedure=files"], "this name cannot be used"),
    ],
)
def test_a_wrong_addition_changes_nothing(files_estate: EstateFolder, arguments: list[str], told: str) -> None:
    before = (files_estate.path / "historon.toml").read_bytes()
    result = files_estate.run("sources", "add", *arguments)
    assert result.code in (2, 4)
    assert told in result.err
    assert (files_estate.path / "historon.toml").read_bytes() == before


def test_importing_maps_columns_and_can_be_tried_first(files_estate: EstateFolder) -> None:
    (files_estate.path / "devices.csv").write_text(
        "Hostname;IP;Where\nq-1;10.20.0.1;northmole\nfiles;10.20.0.2;saltgate\n\nq-3;;eider\n"
    )
    command = [
        "sources",
        "import",
        "devices.csv",
        "--map",
        "name=Hostname",
        "--map",
        "address=IP",
        "--map",
        "label.site=Where",
        "--set",
        "procedure=files",
    ]
    before = (files_estate.path / "historon.toml").read_bytes()
    result = files_estate.run(*command, "--dry-run")
    assert result.code == 0, result.said
    assert "2 sources would be added" in result.out
    assert "1 already there" in result.out
    assert (files_estate.path / "historon.toml").read_bytes() == before
    assert "2 sources added" in files_estate.run(*command).out
    rows = {row["source"]: row for row in files_estate.run("sources", "--json").rows}
    assert rows["q-1"]["address"] == "10.20.0.1"
    assert rows["q-3"]["labels"] == {"site": "eider"}
    assert "0 sources added" in files_estate.run(*command).out
    result = files_estate.run("sources", "import", "devices.csv", "--map", "name=Hostnam")
    assert 'has no column "Hostnam" for name' in result.err
    assert 'did you mean "Hostname"?' in result.err
    assert files_estate.run("sources", "import", "nothing.csv").code == 6


def test_pinning_writes_what_the_device_shows(router_estate: RouterEstate, router: Capstan) -> None:
    estate = router_estate(unpinned="yes")
    assert estate.run("collect").code == 3
    result = estate.run("sources", "pin", "t")
    assert result.code == 3
    assert router.fingerprint in result.out
    assert "nothing was changed; confirm on a terminal, or add --yes" in result.out
    result = estate.run("sources", "pin", "t", "--yes")
    assert result.code == 0, result.said
    assert f'host_key = "{router.fingerprint}"' in (estate.path / "historon.toml").read_text()
    assert estate.run("collect").code == 0
    assert "already pinned" in estate.run("sources", "pin", "t").out


def test_pinning_a_certificate_and_what_cannot_be_pinned(
    estate: EstateFolder, tmp_path: Path, background: Background
) -> None:
    wall = Tidewall("wall", tmp_path / "wall", lambda: "<rules/>")
    wall.start()
    describe_estate(estate, over="https", steps='{ pull = "/x" }', source=f'address = "127.0.0.1"\nport = {wall.port}')
    assert estate.run("sources", "pin", "s", "--yes").code == 0
    assert f'certificate = "{wall.fingerprint}"' in (estate.path / "historon.toml").read_text()
    wall.stop()
    wall.renew()
    wall.start()
    assert "DIFFERENT from the pinned" in estate.run("sources", "pin", "s").out
    wall.stop()
    result = estate.run("sources", "pin", "s")
    assert (result.code, "  what     127.0.0.1 port" in result.out) == (3, True)
    estate.write(FILES_ESTATE)
    assert "local has no host key or certificate to pin" in estate.run("sources", "pin", "files").out
    assert estate.run("sources", "pin").code == 2


def test_a_source_of_the_csv_is_pinned_there(estate: EstateFolder, router: Capstan) -> None:
    describe_estate(
        estate,
        over="ssh-exec",
        steps='{ keep = "x", as = "x" }',
        head='sources_from = "more.csv"',
        source='address = "x"\ncredentials = "c"',
    )
    (estate.path / "more.csv").write_text(f"name,address,port,procedure,credentials\nt,127.0.0.1,{router.port},p,c\n")
    result = estate.run("sources", "pin", "t", "--yes", PW="x", UP="x")
    assert "is in more.csv: write it into the column host_key" in result.out


# Procedures and stand-ins


def test_procedures_are_listed_and_explained(files_estate: EstateFolder) -> None:
    out = files_estate.run("procedures").out
    assert re.search(r"^files +local +1", out, re.MULTILINE)
    assert "netconf" in out
    result = historon("procedures", "http-session", cwd=files_estate.path.parent)
    assert result.code == 0, "also where there is no estate"
    assert "keep GET {export}" in result.out
    assert 'learn_secret = { token = "json:/token" }' in result.out
    assert 'did you mean "netconf"?' in files_estate.run("procedures", "netcnf").err
    rows = {row["procedure"]: row for row in files_estate.run("procedures", "--json").rows}
    assert rows["files"]["sources"] == 1


def test_stand_ins_run_until_they_are_told_to_stop(tmp_path: Path) -> None:
    process = subprocess.Popen(
        [PROGRAM, "standins", "play", "--fault", "saltgate-wall-1=half", "--fault", "eider-switch-1=denies"],
        cwd=tmp_path,
        stdout=subprocess.PIPE,
        text=True,
    )
    assert process.stdout is not None
    lines = []
    for line in process.stdout:
        lines.append(line)
        if "Ctrl-C" in line:
            break
    result = historon("collect", cwd=tmp_path / "play")
    process.send_signal(signal.SIGINT)
    rest = process.communicate(timeout=20)[0]
    assert process.returncode == 0, rest
    assert result.code == 3
    assert "10 new, 2 failed" in result.out
    assert "the connection broke in the middle of an answer" in result.err
    assert "access-denied" in result.err
    assert any("127.0.0.1" in line for line in lines)
    assert "it has: expires" in historon("standins", "again", "--fault", "saltgate-wall-1=?", cwd=tmp_path).err
    assert "there is no device nobody" in historon("standins", "third", "--fault", "nobody=x", cwd=tmp_path).err
