"""Words inside edited lines, files beside versions, and differences that do not count."""

import re

import pexpect
from hypothesis import given
from hypothesis import strategies as st

from historon.compare import edited_words, paired
from tests.conftest import FILES_ESTATE, PROGRAM, EstateFolder

_LINES = st.text(alphabet="abc 1.-/", max_size=60)


@given(_LINES, _LINES)
def test_what_is_not_marked_is_the_same_on_both_sides(old: str, new: str) -> None:
    gone, came = edited_words(old, new)
    if gone or came:
        assert _without(old, gone) == _without(new, came)
    for spans, line in ((gone, old), (came, new)):
        assert all(0 <= at < to <= len(line) for at, to in spans)
        assert spans == sorted(spans)


def _without(line: str, spans: list[tuple[int, int]]) -> str:
    for at, to in reversed(spans):
        line = line[:at] + line[to:]
    return line


def test_only_the_words_that_differ_are_marked() -> None:
    old, new = "time-server 10.20.0.9 prefer", "time-server 10.20.0.11 prefer"
    gone, came = edited_words(old, new)
    assert [old[at:to] for at, to in gone] == ["9"]
    assert [new[at:to] for at, to in came] == ["11"]
    assert edited_words("alpha beta", "gamma delta") == ([], []), "nothing in common"


@given(st.lists(_LINES, max_size=6), st.lists(_LINES, max_size=6))
def test_pairs_keep_their_order(removed: list[str], added: list[str]) -> None:
    pairs = list(paired(removed, added))
    assert pairs == sorted(pairs)
    assert len({one for one, _ in pairs}) == len({other for _, other in pairs}) == len(pairs)


def test_a_block_that_grew_is_paired_by_likeness() -> None:
    assert list(paired(["permit tcp any host a"], ["remark new", "permit tcp any host b"])) == [(0, 1)]


def _two_versions(estate: EstateFolder, new: str) -> EstateFolder:
    estate.write(FILES_ESTATE)
    estate.run("collect")
    (estate.path / "data" / "a.conf").write_text(new)
    estate.run("collect")
    return estate


def test_a_plain_file_may_stand_on_either_side(files_estate: EstateFolder) -> None:
    files_estate.run("collect")
    golden = files_estate.path / "golden.conf"
    golden.write_text("one\nTWO\nthree\n")
    result = files_estate.run("diff", "file:golden.conf", "files")
    assert result.code == 1
    assert "--- golden.conf/data/a.conf" in result.out
    assert "-TWO\n+two\n" in result.out
    assert "-two\n+TWO\n" in files_estate.run("diff", "files", "file:golden.conf").out
    golden.write_text("one\ntwo\nthree\n")
    assert files_estate.run("diff", "file:golden.conf", "files").code == 0
    assert files_estate.run("diff", "file:nothing", "files").code == 6
    assert "one side must be a source" in files_estate.run("diff", "file:golden.conf").err
    (files_estate.path / "data" / "b.conf").write_text("b")
    files_estate.run("collect")
    assert (
        "add --only with one of: data/a.conf, data/b.conf" in files_estate.run("diff", "file:golden.conf", "files").err
    )
    assert files_estate.run("diff", "file:golden.conf", "files", "--only", "data/a.conf").code == 0


def test_case_and_space_may_be_ignored(files_estate: EstateFolder) -> None:
    _two_versions(files_estate, "ONE\n  two\nthree  \nfour\n")
    assert files_estate.run("diff", "files@1", "files@2").out.count("\n-") == 3
    both = files_estate.run("diff", "files@1", "files@2", "--ignore-case", "--ignore-space")
    assert re.findall(r"^[+-][^+-].*", both.out, re.MULTILINE) == ["+four"]
    assert "-one" in files_estate.run("diff", "files@1", "files@2", "--ignore-space").out


def test_programs_read_json(files_estate: EstateFolder) -> None:
    _two_versions(files_estate, "one\n2\nthree\n")
    result = files_estate.run("diff", "files", "--json")
    assert result.code == 1
    assert (result.data["old"], result.data["new"]) == ("files@1", "files@2")
    part = next(part for part in result.rows if part["part"] == "data/a.conf")
    assert part["hunks"][0]["lines"] == [" one", "-two", "+2", " three"]


def test_edited_words_are_marked_on_a_terminal(files_estate: EstateFolder) -> None:
    (files_estate.path / "data" / "a.conf").write_text("time-server 10.20.0.9 prefer\n")
    _two_versions(files_estate, "time-server 10.20.0.11 prefer\n")
    terminal = pexpect.spawn(
        str(PROGRAM),
        ["diff", "files"],
        cwd=str(files_estate.path),
        env={"TERM": "xterm-256color", "PATH": "/usr/bin:/bin"},
        encoding="utf-8",
    )
    terminal.expect(pexpect.EOF)
    terminal.close()
    assert terminal.exitstatus == 1
    assert re.search(r"\x1b\[1;4;32m11\x1b", str(terminal.before)), terminal.before
