"""Second places whose disk is full: it is reported, what was there stays whole, and the next update goes on."""

import os
import shutil
from collections.abc import Iterator
from pathlib import Path

import pytest

from tests.conftest import FILES_ESTATE, EstateFolder
from tests.disks import mounted, remount
from tests.openssh import running_server
from tests.peers import needs

_HERE = '[copies.away]\nkind = "{kind}"\npath = "{place}"\n'
_THERE = """
[credentials.copier]
user = "{user}"
key = "file:keys/client"
[copies.away]
kind = "{kind}"
server = "127.0.0.1"
port = {port}
path = "{place}"
credentials = "copier"
host_key = "{host_key}"
"""
_KINDS = ["store", "folder", "git"]
_SFTP = [
    pytest.param(f"{kind} over SFTP", marks=[needs("an OpenSSH server"), pytest.mark.campaign])
    for kind in ("store", "folder")
]


@pytest.fixture
def disk(tmp_path: Path) -> Iterator[Path]:
    with mounted(tmp_path / "disk", "size=700k") as place:
        yield place


@pytest.fixture(params=[*_KINDS, *_SFTP])
def copied(
    request: pytest.FixtureRequest, files_estate: EstateFolder, disk: Path, tmp_path: Path
) -> Iterator[EstateFolder]:
    """An estate whose copy lies on a small disk, and is up to date with its first version."""
    kind, _, far = str(request.param).partition(" ")
    (files_estate.path / "data" / "a.conf").write_text("one\n")
    if not far:
        files_estate.write(FILES_ESTATE + _HERE.format(kind=kind, place=disk / "copy"))
        _first(files_estate)
        yield files_estate
        return
    keys = tmp_path / "sshd"
    keys.mkdir()
    with running_server(keys) as server:
        shutil.copy(server.client_key, files_estate.path / "keys" / "client")
        files_estate.write(
            FILES_ESTATE
            + _THERE.format(
                kind=kind, place=disk / "copy", user=server.user, port=server.port, host_key=server.host_key
            )
        )
        _first(files_estate)
        yield files_estate


def _first(estate: EstateFolder) -> None:
    assert estate.run("collect").code == 0
    first = estate.run("copies", "--update")
    assert first.code == 0, first.said


def _rebuilt(estate: EstateFolder) -> list[tuple[str, str]]:
    """What an estate that is made of the copy holds of the source."""
    kept = estate.path / "store"
    kept.rename(estate.path / "kept")
    try:
        made = estate.run("new", ".", "--store-only", "--from-copy", "away")
        assert made.code == 0, made.said
        rows = estate.run("versions", "files", "--json", "--all").rows
        return [
            (row["at"][:19], estate.run("show", f"files@{row['version']}", "data/a.conf", "--reveal").out)
            for row in reversed(rows)  # the newest comes first
        ]
    finally:
        shutil.rmtree(kept)
        (estate.path / "kept").rename(kept)


def test_a_full_disk_leaves_what_was_there_and_the_next_update_goes_on(copied: EstateFolder, disk: Path) -> None:
    first = _rebuilt(copied)
    (copied.path / "data" / "large.bin").write_bytes(os.urandom(2_000_000))
    (copied.path / "data" / "a.conf").write_text("two\n")
    assert copied.run("collect").code == 0
    told = copied.run("copies", "--update")
    assert told.code == 5, told.said
    assert "away: " in told.err
    assert "free space" in told.err
    assert "behind" in copied.run("copies").out
    assert _rebuilt(copied)[: len(first)] == first, "what was there before"
    remount(disk, "size=20m")
    again = copied.run("copies", "--update")
    assert again.code == 0, again.said
    assert "all intact" in copied.run("copies", "--verify", "all").out
    assert [text for _, text in _rebuilt(copied)] == ["one\n", "two\n"]
    left = [file.name for file in disk.rglob("*") if file.name.startswith(("tmp_", "fast_import", "."))]
    assert left == []
