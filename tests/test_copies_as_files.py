"""A copy as plain files: a folder for each version, a manifest that any machine can check, and nothing touched that is not ours."""

import hashlib
import os
import re
import shutil
import subprocess
from pathlib import Path

import pytest

from tests.conftest import FILES_ESTATE, PROGRAM, EstateFolder, prune_to, sampled

_COPY = '[copies.files]\nkind = "folder"\npath = "files"\n'


@pytest.fixture
def copied(files_estate: EstateFolder) -> EstateFolder:
    """Three versions of a source with two parts, one of which never changes; nothing is copied yet."""
    files_estate.write(FILES_ESTATE + _COPY)
    (files_estate.path / "data" / "same.conf").write_text("always\n")
    for text in ("one\n", "two\n", "three\n"):
        (files_estate.path / "data" / "a.conf").write_text(text)
        assert files_estate.run("collect").code == 0
    return files_estate


def _update(estate: EstateFolder, code: int = 0) -> str:
    result = estate.run("copies", "--update")
    assert result.code == code, result.said
    return result.said


def _place(estate: EstateFolder) -> Path:
    return estate.path / "files"


def _texts(estate: EstateFolder, name: str = "a.conf") -> list[str]:
    """What the folders hold, the oldest first; without `latest`."""
    folders = sorted((_place(estate) / "files").iterdir())
    return [(one / "data" / name).read_text() for one in folders if one.name != "latest"]


def _is_whole(estate: EstateFolder) -> bool:
    """What the system's own program says of the manifest."""
    check = ["sha256sum", "--check", "--strict", "--quiet", "SHA256SUMS"]
    return subprocess.run(check, cwd=_place(estate), capture_output=True, check=False).returncode == 0


def test_each_version_is_a_folder_and_the_manifest_is_checked_by_any_machine(copied: EstateFolder) -> None:
    assert "files: up to date: 3 versions of 1 source" in _update(copied)
    assert _texts(copied) == ["one\n", "two\n", "three\n"]
    assert _is_whole(copied)
    folders = os.listdir(_place(copied) / "files")
    assert all(re.fullmatch(r"\d{4}-\d\d-\d\dT\d{6}(?:_\d{6})?Z", one) for one in folders)
    same = [one / "data" / "same.conf" for one in (_place(copied) / "files").iterdir()]
    assert len({file.stat().st_ino for file in same}) == 1, "equal files are one"
    assert all(file.stat().st_mode & 0o077 == 0 for file in _place(copied).rglob("*"))
    assert "up to date" in copied.run("copies").out
    assert "all intact" in copied.run("copies", "--verify").said


def test_only_what_is_missing_is_written(copied: EstateFolder) -> None:
    _update(copied)
    before = {file: file.stat().st_mtime_ns for file in _place(copied).rglob("*.conf")}
    (copied.path / "data" / "a.conf").write_text("four\n")
    copied.run("collect")
    assert "behind" in copied.run("copies").out
    _update(copied)
    assert _texts(copied)[-1] == "four\n"
    assert {file: file.stat().st_mtime_ns for file in before} == before
    assert _is_whole(copied)


def test_the_newest_stands_under_latest(copied: EstateFolder) -> None:
    copied.write(FILES_ESTATE + _COPY + "latest = true\n")
    _update(copied)
    latest = _place(copied) / "files" / "latest" / "data" / "a.conf"
    assert latest.read_text() == "three\n"
    (copied.path / "data" / "a.conf").write_text("four\n")
    (copied.path / "data" / "same.conf").unlink()
    copied.run("collect")
    _update(copied)
    assert latest.read_text() == "four\n"
    assert not latest.with_name("same.conf").exists(), "what the newest no longer has is not there"
    assert _texts(copied, "a.conf") == ["one\n", "two\n", "three\n", "four\n"]
    assert _is_whole(copied)


def test_what_was_pruned_goes_and_a_retention_of_its_own_keeps_less(copied: EstateFolder) -> None:
    _update(copied)
    prune_to(copied, 2)
    _update(copied)
    assert _texts(copied) == ["two\n", "three\n"]
    copied.write(FILES_ESTATE + _COPY + 'retention = "r"\n[retention.r]\nat_most = 1\nat_least = 1\n')
    _update(copied)
    assert _texts(copied) == ["three\n"]
    assert _is_whole(copied)
    store = copied.store()
    assert len(store.versions("files")) == 2
    store.close()


def test_a_file_that_is_not_historons_is_never_touched(copied: EstateFolder) -> None:
    _update(copied)
    newest = max((_place(copied) / "files").iterdir())
    shutil.rmtree(_place(copied))
    foreign = newest / "data" / "a.conf"
    foreign.parent.mkdir(parents=True)
    foreign.write_text("somebody's own\n")
    (_place(copied) / "notes.txt").write_text("mine\n")
    assert "already exists, and is not Historon's; nothing was changed in it" in _update(copied, code=5)
    assert foreign.read_text() == "somebody's own\n"
    foreign.unlink()
    _update(copied)
    assert (_place(copied) / "notes.txt").read_text() == "mine\n"
    assert _texts(copied)[-1] == "three\n"


def test_a_link_leads_nowhere(copied: EstateFolder, tmp_path: Path) -> None:
    outside = tmp_path / "outside"
    outside.mkdir()
    _place(copied).mkdir()
    (_place(copied) / "files").symlink_to(outside)
    assert "is a link, and is not Historon's" in _update(copied, code=5)
    assert os.listdir(outside) == []


@pytest.mark.parametrize("name", ["../outside.conf", "ABSOLUTE", "files/../../outside.conf"])
def test_a_manifest_that_leads_outside_is_damaged_and_removes_nothing(
    copied: EstateFolder, tmp_path: Path, name: str
) -> None:
    _update(copied)
    outside = copied.path / "outside.conf"
    outside.write_text("somebody's own\n")
    digest = hashlib.sha256(outside.read_bytes()).hexdigest()
    with (_place(copied) / "SHA256SUMS").open("a") as manifest:
        manifest.write(f"{digest}  {name.replace('ABSOLUTE', str(outside))}\n")
    assert "the manifest is damaged" in _update(copied, code=5)
    assert outside.read_text() == "somebody's own\n"


def test_nothing_is_removed_by_way_of_a_link(copied: EstateFolder, tmp_path: Path) -> None:
    _update(copied)
    oldest = min((_place(copied) / "files").iterdir())
    oldest.rename(tmp_path / "elsewhere")
    oldest.symlink_to(tmp_path / "elsewhere")
    prune_to(copied, 2)
    _update(copied)
    assert (tmp_path / "elsewhere" / "data" / "a.conf").read_text() == "one\n"


def test_names_may_hold_what_else_parts_lines(copied: EstateFolder) -> None:
    (copied.path / "data" / "odd\x0b\u2028\x85.conf").write_text("odd\n")
    assert copied.run("collect").code == 0
    _update(copied)
    _update(copied)
    assert _is_whole(copied)
    assert "all intact" in copied.run("copies", "--verify").said


def test_what_was_changed_there_is_found_and_not_removed(copied: EstateFolder) -> None:
    _update(copied)
    oldest = min((_place(copied) / "files").iterdir()) / "data" / "a.conf"
    oldest.write_text("edited there\n")
    result = copied.run("copies", "--verify")
    assert result.code == 5
    assert "it does not match its SHA-256" in result.err
    prune_to(copied, 2)
    _update(copied)
    assert oldest.read_text() == "edited there\n", "it is no longer ours"
    oldest.unlink()
    newest = max((_place(copied) / "files").iterdir()) / "data" / "a.conf"
    newest.unlink()
    assert "it is missing" in copied.run("copies", "--verify").err
    copied.run("copies", "--update")
    assert newest.read_text() == "three\n", "what is missing comes again"


@pytest.mark.parametrize("stop", sampled(2, range(6)))
def test_an_update_that_was_cut_short_is_made_up_for(copied: EstateFolder, stop: int) -> None:
    """Killed before one of its renames, or links, or the second manifest."""
    script = f"""
import os, pathlib, signal
from historon.cli.main import run
done = 0
replace = pathlib.Path.replace
def counted(self, target):
    global done
    if done == {stop}:
        os.kill(os.getpid(), signal.SIGKILL)
    done += 1
    return replace(self, target)
pathlib.Path.replace = counted
run(["copies", "--update"])
"""
    subprocess.run([str(PROGRAM.with_name("python")), "-c", script], cwd=copied.path, check=False, capture_output=True)
    assert "files: up to date: 3 versions" in _update(copied)
    assert _texts(copied) == ["one\n", "two\n", "three\n"]
    assert _is_whole(copied)
    assert not list(_place(copied).rglob("*.coming"))


@pytest.mark.parametrize(
    ("settings", "said"),
    [
        ('pattern = "{source}/{part}"', "pattern must contain {source}, {part}, and {number} or {date} with {time}"),
        ('pattern = "{source}/{number}/{whatever}/{part}"', "pattern takes only {source}, {number}"),
        ('pattern = "/{source}/{number}/{part}"', "pattern is a path below the copy's folder"),
        ('pattern = "../{source}/{number}/{part}"', "pattern is a path below the copy's folder"),
        ('retention = "non"', 'there is no "non"'),
        ("latets = true", "latets"),
    ],
)
def test_a_wrong_description_is_refused(copied: EstateFolder, settings: str, said: str) -> None:
    copied.write(FILES_ESTATE + _COPY + settings + "\n")
    result = copied.run("copies")
    assert result.code == 4
    assert said in result.err


def test_a_kind_that_is_not_there_is_named(copied: EstateFolder) -> None:
    copied.write(FILES_ESTATE + _COPY.replace('"folder"', '"fodler"'))
    assert '"fodler" is not a kind of copy (did you mean "folder"?)' in copied.run("copies").err


def test_a_pattern_of_ones_own(copied: EstateFolder) -> None:
    copied.write(FILES_ESTATE + _COPY + 'pattern = "{date}/{source}-{number}/{part}"\n')
    _update(copied)
    (day,) = [one for one in _place(copied).iterdir() if one.is_dir()]
    assert sorted(os.listdir(day)) == ["files-1", "files-2", "files-3"]
    assert _is_whole(copied)


def test_a_damaged_manifest_is_told_and_taken_up_again(copied: EstateFolder) -> None:
    _update(copied)
    manifest = _place(copied) / "SHA256SUMS"
    manifest.write_bytes(b"\xff\xfe nonsense\n")
    assert "the manifest is damaged" in _update(copied, code=5)
    manifest.unlink()
    _update(copied)
    assert _is_whole(copied)


@pytest.mark.parametrize("pattern", ["{source}/{date}T{time}Z/{part}", "{source}/{number}/{part}"])
def test_a_store_is_made_of_plain_files(copied: EstateFolder, pattern: str) -> None:
    """Versions, their order, and their instants as far as the names tell them."""
    copied.write(FILES_ESTATE + _COPY + f'pattern = "{pattern}"\n')
    _update(copied)
    shutil.rmtree(copied.path / "store")
    for place in ("files", str(_place(copied))) if "date" in pattern else ("files",):
        # Named as a copy of the estate; or as a folder, of which nothing else is known.
        made = copied.run("new", ".", "--store-only", "--from-copy", place)
        assert made.code == 0, made.said
        assert "new store with 3 versions" in made.out
        found = [copied.run("show", f"files@{number}", "data/a.conf").out for number in (1, 2, 3)]
        assert found == ["one\n", "two\n", "three\n"]
        assert "1 unchanged" in copied.run("collect").out
        shutil.rmtree(copied.path / "store")


def test_of_damaged_files_a_store_is_made_of_what_is_whole(copied: EstateFolder) -> None:
    _update(copied)
    shutil.rmtree(copied.path / "store")
    min((_place(copied) / "files").glob("*/data/a.conf")).write_text("changed\n")
    result = copied.run("new", ".", "--store-only", "--from-copy", "files")
    assert result.code == 3, "a part of it"
    assert "new store with 2 versions" in result.out
    assert "does not match its SHA-256" in result.err
    status = copied.run("status")
    assert (status.code, "store: lost with the copy that the store was made from" in status.out) == (1, True)
    assert copied.run("show", "files", "data/a.conf").out == "three\n"
    assert copied.run("verify", "--accept-losses").code == 0
    assert "lost with the copy" not in copied.run("status").out


def test_of_nothing_no_store_is_made(copied: EstateFolder) -> None:
    assert copied.run("new", ".", "--store-only", "--from-copy", "nowhere").code == 2
