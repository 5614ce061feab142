"""What has another name now is what it was: sources, parts, and what follows another part."""

import shutil
from datetime import timedelta

import pytest

from tests.conftest import FILES_ESTATE, EstateFolder, collect

_NEW = FILES_ESTATE.replace('name = "files"', 'name = "renamed"')
_COPIES = {
    "store": '[copies.far]\nkind = "store"\npath = "far"\n',
    "folder": '[copies.far]\nkind = "folder"\npath = "far"\n',
    "git": '[copies.far]\nkind = "git"\npath = "far"\n',
}


def _numbers(estate: EstateFolder, source: str) -> list[int]:
    return sorted(row["version"] for row in estate.run("versions", source, "--json", "--all").rows)


@pytest.fixture
def filled(files_estate: EstateFolder) -> EstateFolder:
    """Three versions of `files`, of which the first one was pruned and the second is held."""
    pruned = FILES_ESTATE.replace('name = "files"', 'name = "files"\nretention = "r"')
    files_estate.write(pruned + "[retention.r]\nat_most = 2\nat_least = 2\n")
    for port in (1, 2, 3):
        (files_estate.path / "data" / "a.conf").write_text(f"port {port}\n")
        collect(files_estate)
    assert files_estate.run("prune", "--yes").code == 0
    assert files_estate.run("hold", "files@2", "--because", "before the move").code == 0
    return files_estate


@pytest.mark.parametrize("kind", _COPIES)
@pytest.mark.parametrize("failed", [False, True])
def test_a_renamed_source_keeps_its_history_and_copies_follow(filled: EstateFolder, kind: str, failed: bool) -> None:
    text = (filled.path / "historon.toml").read_text() + _COPIES[kind]
    filled.write(text)
    assert filled.run("copies", "--update").code == 0
    filled.write(text.replace('name = "files"', 'name = "renamed"'))
    if failed:
        (filled.path / "data").rename(filled.path / "away")
        assert filled.run("collect").code == 3
        (filled.path / "away").rename(filled.path / "data")
    assert filled.run("status").code == 1, "files is not described"
    done = filled.run("sources", "rename", "files", "renamed")
    assert (done.code, done.out) == (0, "files is now renamed, with 2 versions\n")
    (filled.path / "data" / "a.conf").write_text("port 4\n")
    collect(filled)
    assert _numbers(filled, "renamed") == [2, 3, 4]
    assert "before the move" in filled.run("versions", "renamed").out
    assert "-port 3" in filled.run("diff", "renamed@3", "renamed@4").out
    assert filled.run("show", "renamed@2", "data/a.conf").out == "port 2\n"
    assert "files was renamed to renamed" in filled.run("versions", "files").err
    assert filled.run("verify").code == 0
    assert filled.run("copies", "--update").code == 0, "each removal is explained by where the version is now"
    assert filled.run("copies", "--verify", "all").code == 0
    status = filled.run("status")
    assert status.code == 0, status.out
    assert filled.run("changes", "--json").data["pruned_versions"] == 1


@pytest.mark.parametrize(
    ("old", "new", "code", "said"),
    [
        ("files", "files", 2, "files is still in the estate file"),
        ("flies", "renamed", 2, 'there is no source "flies"'),
        ("files", "nowhere", 2, 'there is no source "nowhere"'),
    ],
)
def test_what_cannot_be_renamed(files_estate: EstateFolder, old: str, new: str, code: int, said: str) -> None:
    collect(files_estate)
    if old != new:
        files_estate.write(_NEW)
    result = files_estate.run("sources", "rename", old, new)
    assert (result.code, said in result.err) == (code, True), result.err


def test_a_name_with_versions_takes_none_over(files_estate: EstateFolder) -> None:
    collect(files_estate)
    files_estate.write(_NEW)
    collect(files_estate)
    result = files_estate.run("sources", "rename", "files", "renamed")
    assert (result.code, "renamed already has versions; nothing was changed" in result.err) == (5, True)
    assert _numbers(files_estate, "files") == _numbers(files_estate, "renamed") == [1]


# ---- parts -----------------------------------------------------------------------------------------------------------


def _steps(estate: EstateFolder, *steps: str) -> None:
    estate.write(FILES_ESTATE.replace('{ pull = "data" }', ", ".join(steps)))


def test_a_renamed_part_is_measured_by_what_it_was(files_estate: EstateFolder) -> None:
    file = files_estate.path / "data" / "a.conf"
    file.write_text("".join(f"interface {n}\n" for n in range(200)) + "end\n")
    _steps(files_estate, '{ pull = "data/a.conf", as = "old.cfg" }')
    collect(files_estate)
    _steps(files_estate, '{ pull = "data/a.conf", as = "new.cfg", was = "old.cfg" }')
    collect(files_estate)
    assert files_estate.run("show", "files", "new.cfg").out == file.read_text()
    file.write_text("interface 1\nend\n")
    assert files_estate.run("collect").code == 3, "it lost nearly all"


def test_without_it_a_part_that_vanished_is_suspect(files_estate: EstateFolder) -> None:
    _steps(files_estate, '{ pull = "data/a.conf", as = "old.cfg" }', '{ pull = "data/a.conf", as = "x.cfg" }')
    collect(files_estate)
    _steps(files_estate, '{ pull = "data/a.conf", as = "new.cfg" }', '{ pull = "data/a.conf", as = "y.cfg" }')
    files_estate.run("collect")
    changed = files_estate.run("rounds", "2", "--json").rows[0]
    _steps(files_estate, '{ pull = "data/a.conf", as = "x.cfg" }')
    files_estate.run("collect")
    assert files_estate.run("rounds", "3", "--json").rows[0]["outcome"] == "suspect", changed


@pytest.mark.parametrize("step", ['as = "a.cfg", was = "a.cfg"', 'as = "b.cfg", was = "c.cfg", follows = "a.cfg"'])
def test_a_part_that_was_itself_is_a_mistake(files_estate: EstateFolder, step: str) -> None:
    _steps(files_estate, '{ pull = "data/a.conf", as = "a.cfg" }', f'{{ pull = "data/a.conf", {step} }}')
    result = files_estate.run("sources")
    assert (result.code, "is the same name" in result.err) == (4, True), result.err


# ---- what follows ----------------------------------------------------------------------------------------------------


def test_what_follows_is_stored_once_a_day_and_remarked_else(files_estate: EstateFolder) -> None:
    text, binary = files_estate.path / "data" / "a.conf", files_estate.path / "data" / "a.bin"
    text.write_text("port 1\n")
    _steps(
        files_estate,
        '{ pull = "data/a.conf", as = "a.cfg" }',
        '{ pull = "data/a.bin", as = "a.bin", follows = "a.cfg" }',
    )
    binary.write_bytes(b"\0one" * 100)
    collect(files_estate)
    binary.write_bytes(b"\0two" * 100)
    collect(files_estate)
    row = files_estate.run("rounds", "2", "--json").rows[0]
    assert row["outcome"] == "unchanged"
    assert row["note"] == "a.bin differs; it is stored once a day while what it follows is unchanged"
    store = files_estate.store()
    store._db.execute("UPDATE source SET good_at = good_at - ?", (int(timedelta(days=1).total_seconds() * 1000),))
    store.close()
    collect(files_estate)
    assert _numbers(files_estate, "files") == [1, 2]
    store = files_estate.store()
    (part,) = (one for one in store.parts("files", 2) if one.name == "a.bin")
    assert store.read(part) == b"\0two" * 100
    store.close()
    assert files_estate.run("rounds", "3", "--json").rows[0]["outcome"] == "unchanged"
    shutil.rmtree(files_estate.path / "store")
