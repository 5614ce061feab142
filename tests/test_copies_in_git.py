"""A copy in a git repository, with the real git: a commit a round, and nothing forced on what others did there."""

import os
import re
import shutil
import subprocess
from pathlib import Path

import pytest

from tests.conftest import FILES_ESTATE, EstateFolder
from tests.openssh import running_server
from tests.peers import needs

_COPY = '[copies.history]\nkind = "git"\npath = "history.git"\n'
_SECRET = "enable secret pw-canary-1234\n"

pytestmark = pytest.mark.skipif(shutil.which("git") is None, reason="this machine does not have git")


def _collect(estate: EstateFolder, text: str) -> None:
    (estate.path / "data" / "a.conf").write_text(text)
    assert estate.run("collect").code == 0


@pytest.fixture
def kept(files_estate: EstateFolder) -> EstateFolder:
    """Three rounds, one of which found nothing new."""
    files_estate.write(FILES_ESTATE + _COPY)
    for text in ("one\n", "one\n", "two\n"):
        _collect(files_estate, text)
    return files_estate


def _git(estate: EstateFolder, *arguments: str, place: str = "history.git") -> str:
    done = subprocess.run(
        ["git", "--git-dir", place, *arguments],
        cwd=estate.path,
        capture_output=True,
        text=True,
        check=True,
        env={
            **os.environ,
            "GIT_AUTHOR_NAME": "x",
            "GIT_AUTHOR_EMAIL": "x@x",
            "GIT_COMMITTER_NAME": "x",
            "GIT_COMMITTER_EMAIL": "x@x",
        },
    )
    return done.stdout


def _update(estate: EstateFolder, code: int = 0) -> str:
    result = estate.run("copies", "--update")
    assert result.code == code, result.said
    return result.said


def test_each_round_that_found_something_is_a_commit(kept: EstateFolder) -> None:
    assert "history: up to date" in _update(kept)
    assert _git(kept, "log", "--format=%s", "main").splitlines() == ["round 3: 1 changed", "round 1: 1 new"]
    body = _git(kept, "log", "-1", "--format=%(trailers)", "main")
    assert "Historon-Round: 3" in body
    assert "Historon-Version: files@3" in body, "@2 is of noise alone"
    store = kept.store()
    rounds = {one.number: int(one.began.timestamp()) for one in store.rounds()}
    store.close()
    assert _git(kept, "log", "--format=%at", "main").split() == [str(rounds[3]), str(rounds[1])]
    assert _git(kept, "show", "main:files/data/a.conf") == "two\n"
    assert _git(kept, "show", "main~1:files/data/a.conf") == "one\n"
    assert "up to date" in kept.run("copies").out
    assert "all intact" in kept.run("copies", "--verify").said


def test_only_new_rounds_are_added_and_a_part_that_went_goes(kept: EstateFolder) -> None:
    (kept.path / "data" / "b.conf").write_text("b\n")
    _collect(kept, "three\n")
    _update(kept)
    before = _git(kept, "rev-parse", "main").strip()
    (kept.path / "data" / "b.conf").unlink()
    _collect(kept, "four\n")
    _update(kept)
    assert _git(kept, "rev-parse", "main~1").strip() == before
    names = _git(kept, "ls-tree", "-r", "--name-only", "main").splitlines()
    assert names == ["files/data.tree", "files/data/a.conf"]
    tip = _git(kept, "rev-parse", "main")
    _update(kept)
    assert _git(kept, "rev-parse", "main") == tip, "nothing is new"


def test_any_bytes_and_names_come_through(kept: EstateFolder) -> None:
    odd = 'we "quote" \\ ü.bin'
    content = bytes(range(256)) * 300 + b"\ndone\ncommit refs/heads/main\n"
    (kept.path / "data" / odd).write_bytes(content)
    _collect(kept, "with an odd neighbour\n")
    _update(kept)
    (name,) = [one for one in _git(kept, "ls-tree", "-r", "-z", "--name-only", "main").split("\0") if "quote" in one]
    done = subprocess.run(
        ["git", "--git-dir", "history.git", "show", f"main:{name}"], cwd=kept.path, capture_output=True, check=True
    )
    assert done.stdout == content
    assert "all intact" in kept.run("copies", "--verify").said


def test_secrets_are_hidden_where_that_is_wanted_and_it_is_said(kept: EstateFolder) -> None:
    (kept.path / "data" / "blob.bin").write_bytes(b"\0\1\2")
    _collect(kept, _SECRET)
    _update(kept)
    assert "pw-canary-1234" in _git(kept, "show", "main:files/data/a.conf")
    shutil.rmtree(kept.path / "history.git")
    kept.write(FILES_ESTATE + _COPY + "masked = true\n")
    _update(kept)
    everything = _git(kept, "log", "-p", "main")
    assert "pw-canary-1234" not in everything
    assert "enable secret [secret " in everything
    assert "Historon-Masked: recognised secrets are masked" in everything
    assert "blob.bin" not in _git(kept, "ls-tree", "-r", "main"), "nobody can mask it"
    assert "all intact" in kept.run("copies", "--verify").said


def test_what_others_did_there_is_told_and_never_forced(kept: EstateFolder) -> None:
    _update(kept)
    tree = _git(kept, "rev-parse", "main^{tree}").strip()
    tip = _git(kept, "rev-parse", "main").strip()
    theirs = _git(kept, "commit-tree", "-p", tip, "-m", "by hand", tree).strip()
    _git(kept, "update-ref", "refs/heads/main", theirs)
    _collect(kept, "three\n")
    assert "it has commits that are not Historon's; nothing was added" in _update(kept, code=5)
    assert _git(kept, "rev-parse", "main").strip() == theirs
    amended = _git(kept, "commit-tree", "-p", f"{tip}~1", "-m", "amended\n\nHistoron-Round: 3", tree).strip()
    _git(kept, "update-ref", "refs/heads/main", amended)
    assert "its history was changed since the last update" in _update(kept, code=5)
    _git(kept, "update-ref", "-d", "refs/heads/main")
    assert "the copy's branch main is missing" in _update(kept, code=5)
    _git(kept, "update-ref", "refs/heads/main", tip)
    _update(kept)
    assert _git(kept, "show", "main:files/data/a.conf") == "three\n"
    shutil.rmtree(kept.path / "history.git")
    _update(kept)
    assert len(_git(kept, "log", "--format=%h", "main").split()) == 3, "moved away, all of it is made anew"


def test_what_was_written_and_not_noted_is_taken_up(kept: EstateFolder) -> None:
    """The process died between the commits and the note of them."""
    _update(kept)
    tip = _git(kept, "rev-parse", "main~1").strip()
    store = kept.store()
    store.remember("", f"git {kept.path / 'history.git'}", tip)
    store.close()
    _collect(kept, "three\n")
    _update(kept)
    assert len(_git(kept, "log", "--format=%h", "main").split()) == 3


def test_a_lock_and_another_folder_are_told(kept: EstateFolder) -> None:
    _update(kept)
    lock = kept.path / "history.git" / "refs" / "heads" / "main.lock"
    lock.touch()
    _collect(kept, "three\n")
    assert "git fast-import:" in _update(kept, code=5)
    assert _git(kept, "show", "main:files/data/a.conf") == "two\n", "nothing was changed"
    lock.unlink()
    _update(kept)
    (kept.path / "other").mkdir()
    (kept.path / "other" / "file").touch()
    kept.write(FILES_ESTATE + _COPY.replace("history.git", "other"))
    assert "is not a bare git repository, and not empty" in _update(kept, code=5)


def test_it_is_pushed_and_a_remote_that_went_on_is_left_alone(kept: EstateFolder, tmp_path: Path) -> None:
    remote = tmp_path / "remote.git"
    subprocess.run(["git", "init", "-q", "--bare", "--initial-branch=main", remote], check=True)
    kept.write(FILES_ESTATE + _COPY + f'remote_update = "{remote}"\n')
    _update(kept)
    assert _git(kept, "rev-parse", "main", place=str(remote)) == _git(kept, "rev-parse", "main")
    tip = _git(kept, "rev-parse", "main").strip()
    tree = _git(kept, "rev-parse", "main^{tree}").strip()
    theirs = _git(kept, "commit-tree", "-p", tip, "-m", "by hand", tree, place=str(remote)).strip()
    _git(kept, "update-ref", "refs/heads/main", theirs, place=str(remote))
    _collect(kept, "three\n")
    said = _update(kept, code=5)
    assert re.search(r"git push: .*rejected", said)
    assert "nothing was forced" in said
    assert _git(kept, "rev-parse", "main", place=str(remote)).strip() == theirs
    assert _git(kept, "show", "main:files/data/a.conf") == "three\n", "the commit is here, and waits"


def test_damage_is_found(kept: EstateFolder) -> None:
    _update(kept)
    for file in [one for one in (kept.path / "history.git" / "objects").rglob("*") if one.is_file()]:
        file.chmod(0o600)
        file.write_bytes(file.read_bytes()[:-4] + b"\0\0\0\0")
    result = kept.run("copies", "--verify")
    assert result.code == 5
    assert "git fsck:" in result.err


@pytest.mark.parametrize("setting", ['branch = "a b"', 'remote_update = "--force"', 'masked = "yes"'])
def test_a_wrong_description_is_refused(kept: EstateFolder, setting: str) -> None:
    kept.write(FILES_ESTATE + _COPY + setting + "\n")
    assert kept.run("copies").code == 4


def test_a_store_is_made_of_a_repository(kept: EstateFolder, tmp_path: Path) -> None:
    """Versions and instants: no more is in it."""
    _update(kept)
    was = [one["state"] for one in kept.run("versions", "files", "--json", "--all").rows if one["state"] == "good"]
    began = {one["began"][:19] for one in kept.run("rounds", "--json").rows}
    shutil.rmtree(kept.path / "store")
    for place in ("history.git", "history"):
        made = kept.run("new", ".", "--store-only", "--from-copy", place)
        assert made.code == 0, made.said
        assert "new store with 2 versions" in made.out
        rows = kept.run("versions", "files", "--json", "--all").rows
        assert [one["state"] for one in rows] == was
        assert {one["at"][:19] for one in rows} <= began, "a commit has the instant of its round"
        assert kept.run("show", "files@1", "data/a.conf").out == "one\n"
        assert kept.run("show", "files", "data/a.conf").out == "two\n"
        assert "1 unchanged" in kept.run("collect").out
        shutil.rmtree(kept.path / "store")


def test_nothing_is_made_of_a_masked_repository(kept: EstateFolder) -> None:
    kept.write(FILES_ESTATE + _COPY + "masked = true\n")
    _update(kept)
    shutil.rmtree(kept.path / "store")
    result = kept.run("new", ".", "--store-only", "--from-copy", "history")
    assert result.code == 6
    assert "the secrets in this repository are masked" in result.err
    assert not (kept.path / "store" / "ledger.sqlite").exists()


def _two_sites(estate: EstateFolder, copy: str, sites: tuple[str, str] = ("Quay North", "yard")) -> None:
    """Two sources with a site each, and a third without."""
    for name in ("b", "c"):
        (estate.path / name).mkdir(exist_ok=True)
        (estate.path / name / "x.conf").write_text(f"{name}\n")
    text = FILES_ESTATE + f'labels = {{ site = "{sites[0]}" }}\n' + _COPY + copy
    for name, label in (("b", f'labels = {{ site = "{sites[1]}" }}\n'), ("c", "")):
        text += f'[procedures.{name}]\nover = "local"\nsteps = [{{ pull = "{name}" }}]\n'
        text += f'[[sources]]\nname = "{name}"\nprocedure = "{name}"\n{label}'
    estate.write(text)


def _names(estate: EstateFolder, branch: str = "main") -> list[str]:
    return [one for one in _git(estate, "ls-tree", "-r", "--name-only", branch).splitlines() if ".conf" in one]


def test_sources_lie_in_folders_by_a_label_and_move_with_it(kept: EstateFolder, tmp_path: Path) -> None:
    _two_sites(kept, 'folders_by = "site"\n')
    assert kept.run("collect").code == 0
    _update(kept)
    assert _names(kept) == ["Quay-North/files/data/a.conf", "no-site/c/c/x.conf", "yard/b/b/x.conf"]
    assert "Historon-Version: files@3 in Quay-North/files" in _git(kept, "log", "--format=%(trailers)", "main")
    _two_sites(kept, 'folders_by = "site"\n', ("yard", "office"))
    _update(kept)
    assert _names(kept) == ["no-site/c/c/x.conf", "office/b/b/x.conf", "yard/files/data/a.conf"]
    assert "all intact" in kept.run("copies", "--verify").said
    tip = _git(kept, "rev-parse", "main")
    _update(kept)
    assert _git(kept, "rev-parse", "main") == tip, "nothing is new"
    _two_sites(kept, "")
    assert "its folders are by the label site" in _update(kept, code=5)
    assert _git(kept, "rev-parse", "main") == tip
    shutil.rmtree(kept.path / "store")
    made = kept.run("new", ".", "--store-only", "--from-copy", "history.git")
    assert "new store with 4 versions" in made.out, made.said
    assert kept.run("show", "files@1", "data/a.conf").out == "one\n"
    assert kept.run("show", "b", "b/x.conf").out == "b\n"


def test_sources_have_branches_by_a_label_and_move_with_it(kept: EstateFolder, tmp_path: Path) -> None:
    remote = tmp_path / "remote.git"
    subprocess.run(["git", "init", "-q", "--bare", remote], check=True)
    own = f'branches_by = "site"\nremote_update = "{remote}"\n'
    _two_sites(kept, own)
    assert kept.run("collect").code == 0
    _update(kept)
    there = [_names(kept, branch) for branch in ("Quay-North", "main", "yard")]
    assert there == [["files/data/a.conf"], ["c/c/x.conf"], ["b/b/x.conf"]]
    assert _git(kept, "log", "--format=%s", "Quay-North").splitlines() == ["round 3: 1 changed", "round 1: 1 new"]
    _two_sites(kept, own, ("yard", "yard"))
    _collect(kept, "three\n")
    _update(kept)
    assert [_names(kept, branch) for branch in ("Quay-North", "yard")] == [[], ["b/b/x.conf", "files/data/a.conf"]]
    assert _git(kept, "show", "yard:files/data/a.conf", place=str(remote)) == "three\n"
    assert "all intact" in kept.run("copies", "--verify").said
    shutil.rmtree(kept.path / "store")
    made = kept.run("new", ".", "--store-only", "--from-copy", "history.git")
    assert "new store with 5 versions" in made.out, made.said
    assert kept.run("show", "files@2", "data/a.conf").out == "two\n"


def test_a_label_that_nobody_has_is_told(kept: EstateFolder) -> None:
    kept.write(FILES_ESTATE + _COPY + 'folders_by = "sight"\n')
    result = kept.run("copies")
    assert result.code == 4
    assert 'no source has the label "sight"' in result.err


@needs("an OpenSSH server")
def test_it_is_pushed_over_ssh(kept: EstateFolder, tmp_path: Path) -> None:
    remote = tmp_path / "remote.git"
    subprocess.run(["git", "init", "-q", "--bare", "--initial-branch=main", remote], check=True)
    keys = tmp_path / "keys"
    keys.mkdir()
    with running_server(keys) as server:
        kept.write(FILES_ESTATE + _COPY + f'remote_update = "ssh://{server.user}@127.0.0.1:{server.port}{remote}"\n')
        said = _update(kept, code=5)
        assert "git push:" in said, "nobody knows its key, and nobody is there to be asked"
        assert _git(kept, "show", "main:files/data/a.conf") == "two\n", "the commits are here"
        known = keys / "known_hosts"
        key = (keys / "host.pub").read_text()
        known.write_text(f"[127.0.0.1]:{server.port} {key}")
        options = f"-F none -i {server.client_key} -oUserKnownHostsFile={known} -oBatchMode=yes"
        _git(kept, "config", "core.sshCommand", f"ssh {options}")
        _update(kept)
        assert _git(kept, "rev-parse", "main", place=str(remote)) == _git(kept, "rev-parse", "main")
    _collect(kept, "three\n")
    assert "git push:" in _update(kept, code=5)
    assert _git(kept, "show", "main:files/data/a.conf") == "three\n", "the commit is here, and waits"
