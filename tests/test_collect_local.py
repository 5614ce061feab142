import os
import re
import subprocess
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from historon.base.folders import beside
from historon.store import name_of, raw_name
from tests.conftest import ELEVATION, FILES_ESTATE, PROGRAM, EstateFolder, collect, describe_estate, parts_of


def _with_steps(estate: EstateFolder, steps: str, more: str = "") -> EstateFolder:
    estate.write(FILES_ESTATE.replace('[{ pull = "data" }]', f"[{steps}]\n{more}"))
    return estate


def test_a_tree_is_kept_file_by_file_and_comes_back_byte_for_byte(files_estate: EstateFolder) -> None:
    data = files_estate.path / "data"
    (data / "deep" / "er").mkdir(parents=True)
    (data / "deep" / "er" / "b.bin").write_bytes(bytes(range(256)))
    (data / "empty").write_bytes(b"")
    (data / "link").symlink_to("/etc/hostname")
    os.mkfifo(data / "pipe")
    (data / "hollow").mkdir()
    (data / "a.conf").chmod(0o640)
    os.utime(data / "a.conf", (1_700_000_000, 1_700_000_000))
    (data / os.fsdecode(b"caf\xe9")).write_bytes(b"latin")
    result = files_estate.run("collect")
    assert result.code == 0
    assert "1 excluded from data: pipes" in result.out
    (data / "like\\xe9").write_bytes(b"a name that looks like an escape")
    files_estate.run("collect")
    private = files_estate.run("restore", "files", "--to", "private")
    assert "readable by you only" in private.out
    assert "left out: private/data/link: a link that leads out of the folder" in private.out
    below = [*(files_estate.path / "private").rglob("*"), files_estate.path / "private"]
    assert {path.stat().st_mode & 0o777 for path in below if path.is_dir()} == {0o700}
    assert {path.stat().st_mode & 0o777 for path in below if path.is_file()} == {0o600}
    told = files_estate.run("restore", "files", "--to", "back", "--permissions", "--outward-links").out
    assert "with their original permissions" in told
    back = files_estate.path / "back" / "data"
    names = sorted(
        os.fsencode(path.relative_to(back)) for path in back.rglob("*") if path.is_file() and not path.is_symlink()
    )
    assert names == [b"a.conf", b"caf\xe9", b"deep/er/b.bin", b"empty", b"like\\xe9"]
    assert (back / "deep" / "er" / "b.bin").read_bytes() == bytes(range(256))
    assert (back / "a.conf").stat().st_mode & 0o777 == 0o640
    assert (back / "a.conf").stat().st_mtime == 1_700_000_000
    assert (back / "hollow").is_dir()
    assert os.readlink(back / "link") == "/etc/hostname"
    os.utime(data / "a.conf")
    assert "unchanged" in files_estate.run("collect").out, "a time of change alone is no change"
    (data / "a.conf").chmod(0o600)
    assert "changed" in files_estate.run("collect").said.split()


def test_holes_are_remarked_and_come_back_as_zeros(files_estate: EstateFolder) -> None:
    with (files_estate.path / "data" / "sparse.img").open("wb") as file:
        file.truncate(5_000_000)
    result = files_estate.run("collect")
    assert "1 sparse in data: stored with their holes filled" in result.out
    assert files_estate.run("restore", "files", "--only", "data/sparse.img", "--to", "back").code == 0
    assert (files_estate.path / "back" / "data" / "sparse.img").read_bytes() == bytes(5_000_000)


def test_part_of_a_tree_comes_back_with_its_own_metadata_alone(files_estate: EstateFolder) -> None:
    data = files_estate.path / "data"
    (data / "sub").mkdir()
    (data / "sub" / "b").write_text("b")
    (data / "sub" / "b").chmod(0o604)
    (data / "elsewhere").symlink_to("/tmp")
    assert files_estate.run("collect").code == 0
    assert files_estate.run("restore", "files", "--only", "data/sub", "--to", "back", "--permissions").code == 0
    back = files_estate.path / "back"
    assert sorted(str(path.relative_to(back)) for path in back.rglob("*")) == ["data", "data/sub", "data/sub/b"]
    assert (back / "data" / "sub" / "b").stat().st_mode & 0o777 == 0o604


def test_programs_are_given_a_small_environment_and_what_the_step_says(estate: EstateFolder) -> None:
    """`env:` secrets of others were in it. What is given by reference shows nowhere."""
    (estate.path / "keys" / "app").write_text("anchor-chain-5\n")
    (estate.path / "keys" / "app").chmod(0o600)
    steps = """{ keep = ["env"], as = "env.txt", environment = { APP = "file:keys/app", PLACE = "{name} {label.site}", UP = "{elevation}" } }"""
    describe_estate(estate, over="local", steps=steps, source='credentials = "c"\nlabels = { site = "yard" }')
    result = collect(estate, "-vv", OTHER_SECRET="of-another", LANG="C.UTF-8", SSH_AUTH_SOCK="/tmp/agent")
    assert result.code == 0, result.said
    assert "anchor-chain-5" not in result.said
    kept = parts_of(estate)["env.txt"].decode()
    seen = dict(line.split("=", 1) for line in kept.splitlines())
    assert seen.pop("APP") == "anchor-chain-5"
    assert seen.pop("PLACE") == "s yard"
    assert seen.pop("UP") == ELEVATION
    assert seen.keys() <= {"PATH", "HOME", "LANG", "PWD", "SHLVL", "_"}
    assert "anchor-chain-5" not in estate.run("show", "s", PW="x", UP=ELEVATION).out.replace("APP=anchor-chain-5", "")
    missing = describe_estate(
        estate,
        over="local",
        steps=steps.replace("keys/app", "keys/none"),
        source='labels = { site = "y" }\ncredentials = "c"',
    )
    assert "there is no file" in collect(missing).err


def test_a_file_that_looks_like_the_metadata_of_a_tree_is_a_file(files_estate: EstateFolder) -> None:
    """It decided modes, owners and links of other files when it was restored."""
    _with_steps(files_estate, '{ pull = "sent.tree", as = "etc.tree" }, { pull = "secret", as = "etc/secret" }')
    (files_estate.path / "secret").write_text("s\n")
    lines = [
        "# tree: mode, owner, time of change, name",
        "-rwxrwxrwx nobody:nogroup 2026-01-01T00:00:00.000000Z secret",
    ]
    lines.append("lrwxrwxrwx root:root 2026-01-01T00:00:00.000000Z passwd -> /etc/passwd")
    (files_estate.path / "sent.tree").write_text("\n".join(lines) + "\n")
    assert files_estate.run("collect").code == 0
    assert files_estate.run("restore", "files", "--to", "back", "--permissions", "--outward-links").code == 0
    back = files_estate.path / "back"
    assert sorted(path.name for path in back.rglob("*")) == ["etc", "etc.tree", "secret"]
    assert (back / "etc" / "secret").stat().st_mode & 0o777 == 0o600
    assert (back / "etc" / "secret").stat().st_uid == os.getuid()


def test_what_a_killed_restore_left_is_cleared_by_the_next_one(files_estate: EstateFolder) -> None:
    assert files_estate.run("collect").code == 0
    for _ in range(3):
        process = subprocess.Popen([PROGRAM, "restore", "files", "--to", "back", "--overwrite"], cwd=files_estate.path)
        process.kill()
        process.wait()
    data = files_estate.path / "back" / "data"
    data.mkdir(parents=True, exist_ok=True)
    half = data / beside("a.conf")
    half.write_text("half")
    assert files_estate.run("restore", "files", "--to", "back", "--overwrite").code == 0
    assert [path.name for path in data.iterdir()] == ["a.conf"]


def test_what_is_there_byte_for_byte_is_no_obstacle_to_a_restore(files_estate: EstateFolder) -> None:
    assert files_estate.run("collect").code == 0
    assert "2 files written" in files_estate.run("restore", "files", "--to", "back").out
    again = files_estate.run("restore", "files", "--to", "back")
    assert (again.code, again.out.splitlines()[-1].partition("): ")[2]) == (
        0,
        "nothing to write; 2 files already identical",
    )
    file = files_estate.path / "back" / "data" / "a.conf"
    file.unlink()
    assert (
        "1 file written, readable by you only; 1 file already identical"
        in files_estate.run("restore", "files", "--to", "back").out
    )
    file.write_text("another\n")
    refused = files_estate.run("restore", "files", "--to", "back")
    assert refused.code == 6
    assert "already exists; nothing was written" in refused.err
    assert file.read_text() == "another\n"


@given(st.binary(min_size=1, max_size=30).filter(lambda raw: b"\0" not in raw))
def test_every_name_of_a_file_can_be_written_as_text_and_back(raw: bytes) -> None:
    assert raw_name(name_of(raw)) == raw
    name_of(raw).encode()


def test_a_command_is_run_without_a_shell_and_its_output_kept(files_estate: EstateFolder) -> None:
    _with_steps(files_estate, '{ keep = ["echo", "$HOME; ls", "*"], as = "out.txt" }')
    assert files_estate.run("collect").code == 0
    assert files_estate.run("show", "files").out == "$HOME; ls *\n"


@pytest.mark.parametrize(
    ("steps", "more", "told"),
    [
        ('{ pull = "nothing" }', "", "there is no "),
        ('{ pull = "/dev/null" }', "", "/dev/null is not a regular file"),
        ('{ keep = ["no-such-program"], as = "x" }', "", "there is no program no-such-program on this machine"),
        ('{ keep = ["ls", "/nowhere"], as = "x" }', "", "the command ended with exit code 2"),
        (
            '{ keep = ["sleep", "60"], as = "x", deadline = "300ms" }',
            "",
            "timed out after 300ms without a complete answer",
        ),
        ('{ keep = ["yes"], as = "x" }', 'max_size = "1MB"', "its output exceeds 1.0 MB"),
        ('{ pull = "data", as = "../.." }', "", "cannot be the name of a part"),
        ('{ pull = "data/a.conf", as = "x" }, { pull = "data/a.conf", as = "x" }', "", "two parts have the same name"),
        ('{ pull = "data" }', 'max_size = "5B"', "makes it exceed 5 B"),
    ],
)
def test_what_goes_wrong_names_the_step_and_what_to_try(
    files_estate: EstateFolder, steps: str, more: str, told: str
) -> None:
    result = _with_steps(files_estate, steps, more).run("collect")
    assert result.code == 3
    assert told in result.err
    assert "  try      " in result.err
    assert files_estate.store().versions("files") == []


def test_an_empty_folder_and_an_empty_answer_are_suspect(files_estate: EstateFolder) -> None:
    (files_estate.path / "data" / "a.conf").unlink()
    assert "the export is empty" in files_estate.run("collect").err
    _with_steps(files_estate, '{ keep = ["true"], as = "x" }')
    assert "x is empty" in files_estate.run("collect").err


def test_a_source_can_be_left_alone_with_a_reason(files_estate: EstateFolder) -> None:
    files_estate.write(FILES_ESTATE + 'skip = "being replaced"\n')
    result = files_estate.run("collect")
    assert result.code == 0
    assert result.out.split()[:4] == ["files", "skipped", "being", "replaced"]
    assert files_estate.store().visits(1)[0].note == "being replaced"


def test_the_json_of_a_round_tells_the_same(files_estate: EstateFolder) -> None:
    done = files_estate.run("collect", "--json")
    assert [done.data["round"], done.rows[0]["outcome"], done.rows[0]["version"]] == [1, "new", 1]
    _with_steps(files_estate, '{ pull = "nothing" }')
    failure = files_estate.run("collect", "--json").rows[0]["failure"]
    assert failure["kind"] == "step"
    assert failure["step"] == "step 1 of 1 (pull nothing)"


def test_unknown_sources_and_labels_are_told_with_the_nearest(files_estate: EstateFolder) -> None:
    assert 'there is no source "file"' in files_estate.run("collect", "file").err
    assert 'did you mean "files"' in files_estate.run("collect", "file").err
    assert files_estate.run("collect", "--where", "site=x").code == 2


def test_a_program_that_is_cut_off_leaves_nothing_running(files_estate: EstateFolder, tmp_path: Path) -> None:
    mark = tmp_path / "pid"
    script = files_estate.path / "slow.sh"
    script.write_text(f"#!/bin/sh\necho $$ > {mark}\nsleep 300 &\nwait\n")
    script.chmod(0o755)
    _with_steps(files_estate, '{ keep = ["./slow.sh"], as = "x", deadline = "1s" }').run("collect")
    group = mark.read_text().strip()
    for stat in Path("/proc").glob("[0-9]*/stat"):
        state, _, of_group = stat.read_text().rpartition(")")[2].split()[:3]
        assert of_group != group or state == "Z", "dead, if perhaps not yet reaped"


def test_values_of_the_source_stand_in_its_steps(files_estate: EstateFolder) -> None:
    steps = '{ keep = ["echo", "{name} {label.site} {{name}} ${HOME} {instant}"], as = "x" }'
    _with_steps(files_estate, steps)
    files_estate.write((files_estate.path / "historon.toml").read_text() + 'labels = { site = "north; ls" }\n')
    assert files_estate.run("collect").code == 0
    words = files_estate.run("show", "files").out.split()
    assert words[:5] == ["files", "north;", "ls", "{name}", "${HOME}"]
    assert re.fullmatch(r"\d{4}-\d\d-\d\dT\d{6}Z", words[5])
