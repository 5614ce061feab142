"""Bringing back: many sources as of a moment, into a tar, under dated names, and over the originals."""

import io
import os
import shutil
import stat
import subprocess
import tarfile
from pathlib import Path

import pytest

from tests.conftest import FILES_ESTATE, PROGRAM, EstateFolder

_TWO = (
    FILES_ESTATE.replace('max_age = "26h"', 'labels = { site = "mole" }')
    + """
[procedures.more]
over = "local"
steps = [{ pull = "more.cfg", as = "running.cfg" }]
[[sources]]
name = "router"
procedure = "more"
labels = { site = "mole" }
[[sources]]
name = "late"
procedure = "more"
labels = { site = "mole" }
skip = "not yet"
"""
)


@pytest.fixture
def site(files_estate: EstateFolder) -> EstateFolder:
    """Two sources with two versions each, and one without any."""
    files_estate.write(_TWO)
    data = files_estate.path / "data"
    (data / "sub").mkdir()
    (data / "sub" / "b.conf").write_text("b\n")
    (data / "link").symlink_to("a.conf")
    (data / "a.conf").chmod(0o640)
    for text in ("one\n", "two\n"):
        (data / "a.conf").write_text(text)
        (files_estate.path / "more.cfg").write_text(f"hostname r\ninterface p1\n  mtu {len(text)}\n{text}")
        assert files_estate.run("collect").code == 0
    return files_estate


def test_a_site_as_of_a_moment(site: EstateFolder, tmp_path: Path) -> None:
    result = site.run("restore", "--where", "site=mole", "--to", tmp_path / "back")
    assert result.code == 0, result.said
    assert "late: left out" in result.err
    assert (tmp_path / "back/files/data/a.conf").read_text() == "two\n"
    assert (tmp_path / "back/router/running.cfg").read_text().endswith("two\n")
    result = site.run("restore", "--where", "site=mole", "--at", "1", "--to", tmp_path / "first")
    assert (tmp_path / "first/files/data/a.conf").read_text() == "one\n"
    assert site.run("restore", "--at", "2001-01-01", "--to", tmp_path / "none").code == 2
    assert not (tmp_path / "none").exists()


def test_one_tar_of_all_of_it(site: EstateFolder, tmp_path: Path) -> None:
    assert "written, readable by you only" in site.run("restore", "files", "--tar", tmp_path / "one.tar").out
    assert stat.S_IMODE((tmp_path / "one.tar").stat().st_mode) == 0o600
    with tarfile.open(tmp_path / "one.tar") as archive:
        names = archive.getnames()
        assert "files/data/a.conf" in names
        member = archive.getmember("files/data/a.conf")
        found = archive.extractfile(member)
        assert found is not None
        assert found.read() == b"two\n"
        assert member.mode == 0o640
        assert member.mtime == int((site.path / "data" / "a.conf").stat().st_mtime)
        assert archive.getmember("files/data/link").linkname == "a.conf"
    assert site.run("restore", "files", "--tar", tmp_path / "one.tar").code == 6, "what is there is not replaced"
    piped = subprocess.run(
        [PROGRAM, "restore", "--where", "site=mole", "--only", "*.c*", "--tar", "-"],
        cwd=site.path,
        capture_output=True,
        check=True,
    )
    with tarfile.open(fileobj=io.BytesIO(piped.stdout)) as archive:
        assert {"router/running.cfg", "files/data/sub/b.conf"} <= set(archive.getnames())


def test_odd_names_stand_in_a_tar_as_they_are(site: EstateFolder, tmp_path: Path) -> None:
    odd = os.fsdecode(b"caf\xe9.conf")
    (site.path / "data" / odd).write_text("latin\n")
    assert site.run("collect").code == 0
    assert site.run("restore", "files", "--tar", tmp_path / "odd.tar").code == 0
    with tarfile.open(tmp_path / "odd.tar") as archive:
        assert f"files/data/{odd}" in archive.getnames()


def test_damage_leaves_no_half_a_tar(site: EstateFolder, tmp_path: Path) -> None:
    result = site.run("restore", "files", "router", "--only", "running.cfg", "--tar", tmp_path / "half.tar")
    assert result.code == 2, "files has no such part"
    assert not (tmp_path / "half.tar").exists()


def test_dates_in_names(site: EstateFolder, tmp_path: Path) -> None:
    assert site.run("restore", "router", "--date-in-names", "--to", tmp_path / "back").code == 0
    (name,) = os.listdir(tmp_path / "back")
    assert name.startswith("running-2")
    assert name.endswith("Z.cfg")
    assert site.run("restore", "files@1", "--date-in-names", "--to", tmp_path / "tree").code == 0
    assert (tmp_path / "tree/data/sub").is_dir(), "folders have none"
    (name,) = os.listdir(tmp_path / "tree/data/sub")
    assert name.startswith("b-2")
    assert name.endswith("Z.conf")


def test_one_deleted_file_in_its_place(site: EstateFolder) -> None:
    data = site.path / "data"
    before = (data / "a.conf").stat()
    (data / "a.conf").unlink()
    (data / "new.conf").write_text("made since\n")
    shown = site.run("restore", "files", "--over-originals")
    assert shown.code == 2
    assert "a.conf (4 B in this version): is missing" in shown.out
    assert "not in this version, kept as it is" in shown.out
    assert "add --yes to carry it out" in shown.err
    assert not (data / "a.conf").exists()
    done = site.run("restore", "files", "--over-originals", "--yes")
    assert done.code == 0, done.said
    assert (data / "a.conf").read_text() == "two\n"
    after = (data / "a.conf").stat()
    assert (after.st_mode, after.st_uid, after.st_gid, int(after.st_mtime)) == (
        before.st_mode,
        before.st_uid,
        before.st_gid,
        int(before.st_mtime),
    )
    assert (data / "new.conf").read_text() == "made since\n"
    assert "nothing to restore: 4 files are already identical" in site.run("restore", "files", "--over-originals").out


def test_with_permissions_a_file_that_is_there_gets_its_time_and_is_not_in_the_way(
    site: EstateFolder, tmp_path: Path
) -> None:
    assert site.run("restore", "files", "--to", tmp_path / "back", "--permissions").code == 0
    restored = tmp_path / "back" / "data" / "a.conf"
    os.utime(restored, (1_577_836_800, 1_577_836_800))
    again = site.run("restore", "files", "--to", tmp_path / "back", "--permissions")
    assert again.code == 0, again.said
    assert int(restored.stat().st_mtime) == int((site.path / "data" / "a.conf").stat().st_mtime)
    restored.chmod(0o600)
    other = site.run("restore", "files", "--to", tmp_path / "back", "--permissions")
    assert (other.code, "already exists" in other.err) == (6, True), other.said


def test_what_differs_is_shown_before_and_only_what_is_meant_is_written(site: EstateFolder) -> None:
    data = site.path / "data"
    (data / "a.conf").write_text("changed\n")
    (data / "sub" / "b.conf").write_text("changed too\n")
    (data / "link").unlink()
    shown = site.run("restore", "files@1", "--over-originals", "--only", "data/a.conf")
    assert "-changed" in shown.out
    assert "+one" in shown.out
    assert "b.conf" not in shown.out
    assert site.run("restore", "files@1", "--over-originals", "--only", "data/a.conf", "--yes").code == 0
    assert (data / "a.conf").read_text() == "one\n"
    assert (data / "sub" / "b.conf").read_text() == "changed too\n"
    assert site.run("restore", "files", "--over-originals", "--yes").code == 0
    assert (data / "sub" / "b.conf").read_text() == "b\n"
    assert os.readlink(data / "link") == "a.conf"


def test_a_single_file_goes_back_under_its_own_name(site: EstateFolder) -> None:
    (site.path / "more.cfg").unlink()
    assert site.run("restore", "router@1", "--over-originals", "--yes").code == 0
    assert (site.path / "more.cfg").read_text().endswith("one\n")
    assert not (site.path / "running.cfg").exists()


def test_a_link_in_the_way_is_never_gone_through(site: EstateFolder, tmp_path: Path) -> None:
    shutil.rmtree(site.path / "data" / "sub")
    (tmp_path / "elsewhere").mkdir()
    (site.path / "data" / "sub").symlink_to(tmp_path / "elsewhere")
    result = site.run("restore", "files", "--over-originals", "--yes")
    assert result.code == 6
    assert "is a link" in result.err
    assert not list((tmp_path / "elsewhere").iterdir())


@pytest.mark.parametrize(
    ("words", "said"),
    [
        (("files",), "no destination"),
        (("files", "--to", "x", "--tar", "y"), "no destination"),
        (("--to", "x"), "no source"),
        (("files@1", "--at", "1", "--to", "x"), "both give a time"),
        (("files", "--over-originals", "--date-in-names"), "no instant in their names"),
        (("nobody", "--to", "x"), "nobody"),
    ],
)
def test_wrong_words(site: EstateFolder, words: tuple[str, ...], said: str) -> None:
    result = site.run("restore", *words)
    assert result.code == 2
    assert said in result.err


def test_what_was_not_of_this_machine_has_no_place_here(files_estate: EstateFolder) -> None:
    files_estate.write(
        FILES_ESTATE.replace('steps = [{ pull = "data" }]', 'steps = [{ keep = ["echo", "x"], as = "x" }]')
    )
    assert files_estate.run("collect").code == 0
    result = files_estate.run("restore", "files", "--over-originals")
    assert result.code == 2
    assert "with a known path" in result.err


def test_a_long_list_is_summed_up(files_estate: EstateFolder, tmp_path: Path) -> None:
    for number in range(60):
        (files_estate.path / "data" / f"{number}.conf").write_text("x\n")
    assert files_estate.run("collect").code == 0
    out = files_estate.run("restore", "files", "--to", tmp_path / "back").out
    assert len(out.splitlines()) < 25
    assert "more, " in out


# ---- a piece of a part -----------------------------------------------------------------------------------------------

_XML = """<?xml version="1.0"?>
<c:rules xmlns:c="urn:wall"><c:rule name="office" to="any"><c:port>443</c:port></c:rule><c:rule name="rest"/></c:rules>
"""
_JSON = '{"pools": [{"name": "quay", "weight": 1.10, "members": [ 1,2 ]}], "a/b": {"x": "\\u00fc"}}'


def _archive() -> bytes:
    made = io.BytesIO()
    with tarfile.open(fileobj=made, mode="w:gz") as archive:
        for name, content in {"etc/app.conf": b"one\n", "etc/blob": bytes(range(256)), "log": b"x"}.items():
            entry = tarfile.TarInfo(name)
            entry.size = len(content)
            archive.addfile(entry, io.BytesIO(content))
    return made.getvalue()


@pytest.fixture
def pieces(files_estate: EstateFolder) -> EstateFolder:
    data = files_estate.path / "data"
    (data / "rules.xml").write_text(_XML)
    (data / "pools.json").write_text(_JSON)
    (data / "config.tgz").write_bytes(_archive())
    (data / "broken.tgz").write_bytes(_archive()[:-30])
    assert files_estate.run("collect").code in (0, 3)
    return files_estate


def _piece(estate: EstateFolder, only: str, to: Path) -> dict[str, bytes]:
    done = estate.run("restore", "files@1", "--only", only, "--to", to, "--suspect")
    assert done.code == 0, done.said
    return {str(file.relative_to(to)): file.read_bytes() for file in to.rglob("*") if file.is_file()}


@pytest.mark.parametrize(
    ("only", "found"),
    [
        ("data/config.tgz/etc/app.conf", {"data/config.tgz/etc/app.conf": b"one\n"}),
        (
            "data/config.tgz/etc",
            {"data/config.tgz/etc/app.conf": b"one\n", "data/config.tgz/etc/blob": bytes(range(256))},
        ),
        ("data/config.tgz/*.conf", {"data/config.tgz/etc/app.conf": b"one\n"}),
        ("/rules/rule[@name='office']/port", {"data/rules.xml": b'<c:port xmlns:c="urn:wall">443</c:port>\n'}),
        ("/rules/rule/@name", {"data/rules.xml": b"office\nrest\n"}),
        ("/pools/0/members", {"data/pools.json": b"[ 1,2 ]\n"}),
        ("/pools/0 (name quay)/weight", {"data/pools.json": b"1.10\n"}),
        ("/a~1b/x", {"data/pools.json": b'"\\u00fc"\n'}),
    ],
)
def test_members_of_archives_and_areas_of_documents(
    pieces: EstateFolder, tmp_path: Path, only: str, found: dict[str, bytes]
) -> None:
    assert _piece(pieces, only, tmp_path / "to") == found


@pytest.mark.parametrize("only", ["/nowhere", "/rules/rule[", "/pools/7", "data/config.tgz/none", "//", "/pools/x/y"])
def test_a_piece_that_is_not_there_is_said(pieces: EstateFolder, tmp_path: Path, only: str) -> None:
    refused = pieces.run("restore", "files@1", "--only", only, "--to", tmp_path / "to", "--suspect")
    assert refused.code == 2, refused.said
    assert "has no part, no member of an archive" in refused.err
    assert not (tmp_path / "to").exists()


def test_what_is_in_a_damaged_archive_is_not_guessed(pieces: EstateFolder, tmp_path: Path) -> None:
    refused = pieces.run(
        "restore", "files@1", "--only", "data/broken.tgz/etc/app.conf", "--to", tmp_path / "to", "--suspect"
    )
    assert refused.code == 6
    assert "data/broken.tgz is a damaged or encrypted archive" in refused.err


def test_pieces_come_in_a_tar_too(pieces: EstateFolder, tmp_path: Path) -> None:
    arguments = ("--only", "data/config.tgz/etc", "--tar", tmp_path / "out.tar", "--suspect")
    assert pieces.run("restore", "files@1", *arguments).code == 0
    with tarfile.open(tmp_path / "out.tar") as archive:
        assert archive.getnames() == ["files/data/config.tgz/etc/app.conf", "files/data/config.tgz/etc/blob"]


# ---- all that differs, and no way through a link ---------------------------------------------------------------------


@pytest.fixture
def app(files_estate: EstateFolder) -> Path:
    """A collected folder with a link, a key and a folder of its own."""
    data = files_estate.path / "data"
    (data / "key").write_text("secret\n")
    (data / "key").chmod(0o600)
    (data / "conf.d").mkdir(mode=0o750)
    (data / "current").symlink_to("a.conf")
    assert files_estate.run("collect").code == 0
    return data


_HARM: dict[str, tuple[str, str]] = {
    "a link is gone": ("rm current", "current: is missing"),
    "a link leads elsewhere": ("ln -sfn /etc/passwd current", "the link leads to /etc/passwd, and led to a.conf"),
    "others can read a key": ("chmod 666 key", "its mode is 0666, and was 0600"),
    "a link is a file": ("rm current && touch current", "it is a file, and was a link"),
    "a file is a link": ("rm key && ln -s /etc/passwd key", "it is a link, and was a file"),
    "a folder is gone": ("rmdir conf.d", "conf.d: is missing"),
    "a folder is open": ("chmod 777 conf.d", "its mode is 0777, and was 0750"),
    "a folder is a file": ("rmdir conf.d && touch conf.d", "it is a file, and was a folder"),
    "a file is a folder": ("rm key && mkdir key", "it is a folder, and was a file"),
    "a time is another": ("touch -d 2020-01-01 key", "its time is 2020-01-01"),
}


def _state(folder: Path) -> dict[str, tuple[object, ...]]:
    """Kind, mode, owner, what it holds or leads to; the time of files."""
    found: dict[str, tuple[object, ...]] = {}
    for one in sorted(folder.rglob("*")):
        status = one.lstat()
        holds = os.readlink(one) if one.is_symlink() else one.read_bytes() if one.is_file() else b""
        at = status.st_mtime_ns // 1_000_000 if stat.S_ISREG(status.st_mode) else 0
        found[one.name] = (status.st_mode, status.st_uid, status.st_gid, holds, at)
    return found


@pytest.mark.parametrize("harm", _HARM)
def test_kind_link_mode_and_time_are_compared_shown_and_restored(
    files_estate: EstateFolder, app: Path, harm: str
) -> None:
    command, words = _HARM[harm]
    before = _state(app)
    subprocess.run(["sh", "-c", command], cwd=app, check=True)
    shown = files_estate.run("restore", "files", "--over-originals")
    assert shown.code == 2, shown.said
    assert words in shown.out
    assert files_estate.run("restore", "files", "--over-originals", "--yes").code == 0
    assert _state(app) == before
    assert "nothing to restore: " in files_estate.run("restore", "files", "--over-originals").out


@pytest.mark.skipif(os.geteuid() != 0, reason="only the superuser may change owners")
def test_an_owner_is_compared_shown_and_restored(files_estate: EstateFolder, app: Path) -> None:
    os.chown(app / "key", 65534, 65534)
    shown = files_estate.run("restore", "files", "--over-originals")
    assert "its owner is nobody:nogroup, and was root:root" in shown.out
    assert files_estate.run("restore", "files", "--over-originals", "--yes").code == 0
    assert (app / "key").stat().st_uid == 0


@pytest.mark.skipif(os.geteuid() != 0, reason="shown by the superuser beside another user")
@pytest.mark.parametrize("planted", ["the folder", "a folder in it", "a file"])
def test_the_superuser_writes_through_no_link_of_another_user(
    files_estate: EstateFolder, tmp_path: Path, planted: str
) -> None:
    home, target = tmp_path / "home", tmp_path / "target"
    (home / "site" / "sub").mkdir(parents=True)
    target.mkdir()
    (target / "key").write_text("of the system\n")
    for name in ("a.conf", "key", "sub/key"):
        (home / "site" / name).write_text("of the user\n")
    for one in (home, *home.rglob("*")):
        os.chown(one, 65534, 65534)
    files_estate.write(FILES_ESTATE.replace('pull = "data"', f'pull = "{home}/site"'))
    assert files_estate.run("collect").code == 0
    if planted == "the folder":
        (home / "site").rename(home / "elsewhere")
        (home / "site").symlink_to(target)
    elif planted == "a folder in it":
        shutil.rmtree(home / "site" / "sub")
        (home / "site" / "sub").symlink_to(target)
    else:
        (home / "site" / "key").unlink()
        (home / "site" / "key").symlink_to(target / "key")
    for one in home.rglob("*"):
        os.lchown(one, 65534, 65534)
    result = files_estate.run("restore", "files", "--over-originals", "--yes")
    assert (target / "key").read_text() == "of the system\n"
    assert (target / "key").stat().st_uid == 0
    assert sorted(os.listdir(target)) == ["key"]
    if planted == "a file":
        assert result.code == 0, "the link itself is replaced"
        assert not (home / "site" / "key").is_symlink()
    elif planted == "the folder":
        assert (result.code, f"{home}/site is a link; nothing was written through it" in result.err) == (6, True)
    assert files_estate.run("restore", "files", "--to", str(home / "site"), "--overwrite").code in (0, 6)
    assert sorted(os.listdir(target)) == ["key"]
    assert (target / "key").read_text() == "of the system\n"


def test_a_link_that_nobody_else_could_have_placed_is_followed(files_estate: EstateFolder, tmp_path: Path) -> None:
    real = tmp_path / "real"
    (files_estate.path / "data").rename(real)
    (files_estate.path / "data").symlink_to(real)
    assert files_estate.run("collect").code == 0
    (real / "a.conf").unlink()
    assert files_estate.run("restore", "files", "--over-originals", "--yes").code == 0
    assert (real / "a.conf").exists()
    assert (files_estate.path / "data").is_symlink()


@pytest.mark.skipif(os.geteuid() != 0, reason="shown by the superuser beside another user")
def test_a_planted_link_takes_no_file_out_of_a_drop_folder(files_estate: EstateFolder, tmp_path: Path) -> None:
    drop, target = tmp_path / "drop", tmp_path / "target"
    drop.mkdir()
    target.mkdir()
    (drop / "doors.csv").write_text("a,b\n1,2\n")
    (drop / "taken").symlink_to(target)
    for one in (drop, drop / "doors.csv"):
        os.chown(one, 65534, 65534)
    files_estate.write(
        FILES_ESTATE.replace(
            'over = "local"', f'over = "drop-folder"\nfolder = "{drop}"\nthen = "move"\nmove_to = "taken"'
        ).replace('pull = "data"', 'pull = "doors.csv", complete = "renamed"')
    )
    result = files_estate.run("collect")
    assert os.listdir(target) == [], "nothing is moved through the link"
    assert "is a link" in result.said, result.said
    assert len(files_estate.run("versions", "files", "--json").rows) == 1, "it was collected anyway"


def test_what_a_version_does_not_hold_is_said(files_estate: EstateFolder) -> None:
    data = files_estate.path / "data"
    os.link(data / "a.conf", data / "same.conf")
    with_attributes = True
    try:
        os.setxattr(data / "a.conf", "user.note", b"x")
    except OSError:
        with_attributes = False
    collected = files_estate.run("collect")
    assert "2 with several names in data: each name is stored as a separate file" in collected.out
    if with_attributes:
        assert "with an access list, capabilities or attributes in data: these are not stored" in collected.out
    (data / "a.conf").write_text("changed\n")
    shown = files_estate.run("restore", "files", "--over-originals")
    assert "lost by restoring: " in shown.out
    assert "has 1 other names, which keep the present content" in shown.out
    if with_attributes:
        assert "has attributes (user.note), which no version contains" in shown.out
    assert "about this version: " in shown.out


def test_only_what_is_missing_is_restored(files_estate: EstateFolder) -> None:
    data = files_estate.path / "data"
    (data / "b.conf").write_text("b\n")
    assert files_estate.run("collect").code == 0
    (data / "a.conf").write_text("changed since\n")
    (data / "b.conf").unlink()
    assert files_estate.run("restore", "files", "--over-originals", "--missing", "--yes").code == 0
    assert (data / "a.conf").read_text() == "changed since\n"
    assert (data / "b.conf").read_text() == "b\n"
    back = files_estate.path / "back"
    assert files_estate.run("restore", "files", "--to", "back").code == 0
    (back / "data" / "a.conf").write_text("mine\n")
    (back / "data" / "b.conf").unlink()
    assert files_estate.run("restore", "files", "--to", "back", "--missing").code == 0
    assert (back / "data" / "a.conf").read_text() == "mine\n"
    assert (back / "data" / "b.conf").read_text() == "b\n"
    assert files_estate.run("restore", "files", "--to", "back", "--missing", "--overwrite").code == 2


def test_several_parts_are_restored_in_one_call(files_estate: EstateFolder) -> None:
    for name in ("b.conf", "c.conf"):
        (files_estate.path / "data" / name).write_text(f"{name}\n")
    assert files_estate.run("collect").code == 0
    only = ("--only", "data/b.conf", "--only", "data/c.conf")
    assert files_estate.run("restore", "files", "--to", "back", *only).code == 0
    assert sorted(os.listdir(files_estate.path / "back" / "data")) == ["b.conf", "c.conf"]
    for name in ("a.conf", "b.conf", "c.conf"):
        (files_estate.path / "data" / name).unlink()
    assert files_estate.run("restore", "files", "--over-originals", "--yes", *only).code == 0
    assert sorted(os.listdir(files_estate.path / "data")) == ["b.conf", "c.conf"]
