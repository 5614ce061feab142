"""Copies of every kind when the store says something else: another store, an older one, a changed one, a damaged copy."""

import json
import os
import re
import shutil
import sqlite3
import subprocess
import sys
import zlib
from collections.abc import Callable, Iterator
from contextlib import closing
from pathlib import Path

import pytest

from historon.store import FolderStore
from historon.store.encoding import encode_whole
from tests.conftest import FILES_ESTATE, EstateFolder, historon, prune_to, sampled
from tests.openssh import running_server
from tests.peers import needs

KINDS = (
    "store",
    "folder",
    pytest.param("git", marks=pytest.mark.campaign),
    pytest.param("sftp", marks=[needs("an OpenSSH server"), pytest.mark.campaign]),
)
_GIT = shutil.which("git")
_CHANNEL = '[channels.c]\nkind = "file"\npath = "told.jsonl"\ntell = "trouble"\nimmediately = true\n'
_PRIVATE = {"LC_ALL": "C"}


class Copied:
    """An estate with three versions and a copy of one kind that has them."""

    def __init__(self, estate: EstateFolder, kind: str, text: str, place: Path) -> None:
        self.estate, self.kind, self.text, self.place = estate, kind, text, place
        self.estate.write(FILES_ESTATE + text + _CHANNEL)
        for content in ("one\n", "two\n", "three\n"):
            self.collect(content)
        assert self.estate.run("copies", "--update").code == 0

    def collect(self, content: str) -> None:
        (self.estate.path / "data" / "a.conf").write_text(content)
        assert self.estate.run("collect").code == 0

    def there(self) -> dict[str, bytes]:
        """All that is in the copy's place."""
        files = (one for one in self.place.rglob("*") if one.is_file())
        return {str(one.relative_to(self.place)): one.read_bytes() for one in files}

    def refused(self, words: str) -> None:
        """The update is refused with these words, nothing in the copy has changed, and all who show copies say so."""
        before = self.there()
        result = self.estate.run("copies", "--update")
        assert result.code == 5, result.said
        assert words in result.err, result.err
        assert self.there() == before, "the copy keeps what it holds"
        board = self.estate.run("copies")
        assert (board.code, "1 copy: 1 REFUSED" in board.out) == (5, True), board.said
        status = self.estate.run("status")
        assert (status.code, "1 COPY AND STORE DIFFER" in status.out) == (1, True), status.said
        told = (self.estate.path / "told.jsonl").read_text().splitlines()
        kinds = [event["kind"] for line in told for event in json.loads(line)["events"]]
        assert "copy-refused" in kinds


@pytest.fixture(params=KINDS)
def copied(request: pytest.FixtureRequest, files_estate: EstateFolder, tmp_path: Path) -> Iterator[Copied]:
    kind, place = request.param, tmp_path / "away"
    if kind == "git" and _GIT is None:
        pytest.skip("this machine does not have git")
    if kind != "sftp":
        yield Copied(files_estate, kind, f'[copies.away]\nkind = "{kind}"\npath = "{place}"\n', place)
        return
    with running_server(tmp_path) as server:
        key = files_estate.path / "keys" / "ssh"
        shutil.copy(server.client_key, key)
        key.chmod(0o600)
        text = (
            f'[credentials.server]\nuser = "{server.user}"\nkey = "file:keys/ssh"\n'
            f'[copies.away]\nkind = "store"\nserver = "127.0.0.1"\nport = {server.port}\npath = "{place}"\n'
            f'credentials = "server"\nhost_key = "{server.host_key}"\n'
        )
        yield Copied(files_estate, kind, text, place)


def _ledger(estate: EstateFolder) -> Path:
    return estate.path / "store" / "ledger.sqlite"


def _run(file: Path, *statements: str) -> None:
    with closing(sqlite3.connect(file)) as db:
        for statement in statements:
            db.execute(statement)
        db.commit()


# ---- another store ---------------------------------------------------------------------------------------------------


def test_a_store_that_was_started_again_empties_no_copy(copied: Copied) -> None:
    shutil.rmtree(copied.estate.path / "store")
    assert copied.estate.run("new", ".", "--store-only").code == 0
    copied.collect("four\n")
    copied.refused("holds the copy of another store")


def test_a_second_estate_at_the_same_place_is_refused(copied: Copied, tmp_path: Path) -> None:
    other = tmp_path / "other"
    shutil.copytree(copied.estate.path, other)
    shutil.rmtree(other / "store")
    assert historon("new", ".", "--store-only", cwd=other).code == 0
    assert historon("collect", cwd=other).code == 0
    before = copied.there()
    result = historon("copies", "--update", cwd=other)
    assert (result.code, "holds the copy of another store" in result.err) == (5, True), result.said
    assert copied.there() == before
    copied.collect("four\n")
    assert copied.estate.run("copies", "--update").code == 0, "its own estate goes on"


def test_an_older_store_empties_no_copy(copied: Copied, tmp_path: Path) -> None:
    shutil.copytree(copied.estate.path / "store", tmp_path / "old")
    copied.collect("four\n")
    copied.collect("five\n")
    assert copied.estate.run("copies", "--update").code == 0
    shutil.rmtree(copied.estate.path / "store")
    shutil.copytree(tmp_path / "old", copied.estate.path / "store")
    copied.refused("the store")
    compared = copied.estate.run("copies", "--compare")
    assert (compared.code, "files@5:" in compared.out) == (5, True), compared.said
    assert "the store does not have it, and no removal is on record" in compared.out


def test_a_version_that_is_lost_without_a_record_stays_in_the_copy(copied: Copied) -> None:
    if copied.kind == "git":
        pytest.skip("what was committed stays, whatever the store holds")
    _run(_ledger(copied.estate), "DELETE FROM version WHERE number = 1")
    copied.collect("four\n")
    copied.refused("files@1")


# ---- a version is immutable ------------------------------------------------------------------------------------------


def _rewrite(estate: EstateFolder, number: int, text: bytes) -> None:
    """Give a version another content, consistently: the store finds nothing wrong with itself."""
    import hashlib

    with closing(FolderStore(estate.path / "store")) as store:
        part = next(one for one in store.parts("files", number) if one.name == "data/a.conf")
    encoding, data = encode_whole(text)
    with closing(sqlite3.connect(_ledger(estate))) as db:
        later = db.execute("SELECT position FROM content WHERE strand = ? AND position > ?", part.place).fetchall()
        with closing(FolderStore(estate.path / "store")) as store:
            kept = {position: store._contents.read(part.place[0], position) for (position,) in later}
        for position, content in {part.place[1]: text, **kept}.items():
            encoding, data = encode_whole(content)
            db.execute(
                "UPDATE content SET base_strand = NULL, base = NULL, size = ?, encoding = ?, sha256 = ?, data = ? "
                "WHERE strand = ? AND position = ?",
                (len(content), int(encoding), hashlib.sha256(content).digest(), data, part.place[0], position),
            )
        db.commit()


def test_a_version_that_became_another_one_is_refused_everywhere(copied: Copied) -> None:
    number = 3 if copied.kind == "git" else 1
    _rewrite(copied.estate, number, b"not what it was\n")
    assert copied.estate.run("verify").code == 0, "the store itself finds nothing"
    if copied.kind != "git":
        copied.collect("four\n")
    copied.refused(f"files@{number} differs between the store and")
    compared = copied.estate.run("copies", "--compare")
    assert (compared.code, f"files@{number}:" in compared.out) == (5, True), compared.said
    assert re.search(r"[0-9a-f]{16}  the store\n", compared.out)
    assert re.search(r"[0-9a-f]{16}  away\n", compared.out)
    rows = copied.estate.run("copies", "--compare", "--json").rows
    assert [(row["source"], row["version"], sorted(one["place"] for one in row["places"])) for row in rows] == [
        ("files", number, ["away", "the store"])
    ]


def test_what_one_copy_contradicts_no_other_copy_takes(copied: Copied, tmp_path: Path) -> None:
    if copied.kind == "git":
        pytest.skip("shown with the other kinds")
    second = f'[copies.second]\nkind = "folder"\npath = "{tmp_path / "second"}"\n'
    copied.estate.write((copied.estate.path / "historon.toml").read_text() + second)
    _rewrite(copied.estate, 1, b"not what it was\n")
    copied.collect("four\n")
    result = copied.estate.run("copies", "--update")
    assert result.code == 5
    assert "second: the copy away contradicts the store: files@1" in result.err, result.err
    assert not (tmp_path / "second").exists()
    _rewrite(copied.estate, 1, b"one\n")
    result = copied.estate.run("copies", "--update")
    assert (result.code, (tmp_path / "second").exists()) == (0, True), "what was refused for another's sake is none"


def test_a_made_up_removal_is_not_followed_until_a_person_confirms_it(copied: Copied) -> None:
    if copied.kind == "git":
        pytest.skip("nothing is removed from a repository")
    row = "(SELECT id FROM source), 1, (SELECT at FROM version WHERE number = 1), 'retention none', 1900000000000"
    _run(
        _ledger(copied.estate),
        f"INSERT INTO removed (source, number, at, rule, gone) VALUES ({row})",  # noqa: S608
        "DELETE FROM version WHERE number = 1",
    )
    copied.collect("four\n")
    copied.refused("the store removed versions for reasons that are not in the estate file: files@1")
    digest = re.search(r"--removed (\w+)", copied.estate.run("copies", "--update").err)
    assert digest
    assert copied.estate.run("copies", "--update", "--removed", "0" * 12).code == 5
    assert copied.estate.run("copies", "--update", "--removed", digest[1]).code == 0
    assert "1 copy: 1 up to date" in copied.estate.run("copies").out
    assert copied.estate.run("copies", "--removed", digest[1]).code == 2


def test_what_retention_would_have_kept_was_not_removed_by_it(copied: Copied) -> None:
    if copied.kind == "git":
        pytest.skip("nothing is removed from a repository")
    prune_to(copied.estate, 2)
    assert copied.estate.run("copies", "--update").code == 0, "a removal by the estate's own rule"
    _run(
        _ledger(copied.estate),
        "INSERT INTO removed (source, number, at, rule, gone) SELECT source, number, at, 'retention last', at + 1 "
        "FROM version WHERE number = 2",
        "DELETE FROM version WHERE number = 2",
    )
    copied.collect("four\n")
    copied.refused("files@2 (it had to stay: ")


# ---- damage is remembered --------------------------------------------------------------------------------------------


def _damage(copied: Copied) -> str:
    """Damage one content in the copy; returns the words by which it is known."""
    if copied.kind == "store":
        _run(copied.place / "ledger.sqlite", "UPDATE content SET data = CAST('x' AS BLOB) WHERE id = 1")
    elif copied.kind == "folder":
        min(copied.place.glob("files/*/data/a.conf")).write_text("x\n")
    elif copied.kind == "sftp":
        largest = max((copied.place / "contents").rglob("*"), key=lambda one: one.stat().st_size * one.is_file())
        largest.write_bytes(largest.read_bytes()[:-3] + b"xyz")
    return "DAMAGED"


def test_damage_stays_known_until_it_is_written_again(copied: Copied) -> None:
    if copied.kind == "git":
        pytest.skip("a repository is made again: below")
    _damage(copied)
    assert copied.estate.run("copies").code == 0, "nobody has looked yet"
    found = copied.estate.run("copies", "--verify", "all")
    assert (found.code, "DAMAGED" in found.err) == (5, True), found.said
    for _ in range(2):
        board = copied.estate.run("copies")
        assert (board.code, "1 copy: 1 DAMAGED" in board.out) == (5, True), board.said
    assert copied.estate.run("status").code == 1
    assert "copy-damaged" in (copied.estate.path / "told.jsonl").read_text()
    mended = copied.estate.run("copies", "--update")
    assert mended.code == 0, mended.said
    assert "away: damage was repaired:" in mended.out
    assert "up to date" in copied.estate.run("copies").out
    assert copied.estate.run("copies", "--verify", "all").code == 0
    assert "copy-well" in (copied.estate.path / "told.jsonl").read_text()


def test_a_damaged_repository_stays_damaged_until_it_is_made_again(copied: Copied, tmp_path: Path) -> None:
    if copied.kind != "git":
        pytest.skip("of repositories")
    largest = max(copied.place.rglob("objects/**/*"), key=lambda one: one.stat().st_size * one.is_file())
    largest.chmod(0o600)
    largest.write_bytes(largest.read_bytes()[:-30] + b"x" * 30)
    assert copied.estate.run("copies", "--verify", "all").code == 5
    assert "1 copy: 1 DAMAGED" in copied.estate.run("copies").out
    assert copied.estate.run("copies", "--update").code == 5
    copied.place.rename(tmp_path / "damaged")
    assert copied.estate.run("copies", "--update").code == 0
    assert copied.estate.run("copies").code == 0


def test_a_copy_that_is_not_there_is_not_up_to_date(copied: Copied) -> None:
    if copied.kind == "sftp":
        pytest.skip("only asking the other machine would show it")
    shutil.rmtree(copied.place)
    board = copied.estate.run("copies")
    assert (board.code, "1 copy: 1 MISSING" in board.out) == (5, True), board.said
    assert copied.estate.run("status").code == 1
    assert copied.estate.run("copies", "--update").code == 0
    assert "1 copy: 1 up to date" in copied.estate.run("copies").out


_TAMPERED = {
    "a version is missing": "DELETE FROM version WHERE number = 2",
    "a mark is another": "UPDATE version SET state = 2 WHERE number = 2",
    "a hold is gone": "UPDATE version SET held = 'x' WHERE number = 2",
}


@pytest.mark.parametrize("how", [*_TAMPERED, "a content is another", "the estate's files are others"])
def test_a_store_copy_is_compared_with_the_store(files_estate: EstateFolder, tmp_path: Path, how: str) -> None:
    place = tmp_path / "away"
    copied = Copied(files_estate, "store", f'[copies.away]\npath = "{place}"\n', place)
    if how in _TAMPERED:
        _run(place / "ledger.sqlite", _TAMPERED[how])
        _run(place / "ledger.sqlite", "UPDATE meta SET value = (SELECT value FROM meta WHERE name = 'changes') - 1")
        with closing(sqlite3.connect(_ledger(files_estate))) as db:
            rows = db.execute("SELECT name, value FROM meta").fetchall()
        with closing(sqlite3.connect(place / "ledger.sqlite")) as db:
            db.executemany("UPDATE meta SET value = ? WHERE name = ?", [(value, name) for name, value in rows])
            db.commit()
    elif how == "a content is another":
        other = EstateFolder(tmp_path / "as-estate")
        (other.path / "x").mkdir(parents=True)
        shutil.copytree(place, other.path / "store")
        _rewrite(other, 1, b"not what it was\n")
        shutil.copy(other.path / "store" / "ledger.sqlite", place / "ledger.sqlite")
    else:
        (place / "estate" / "historon.toml").write_text("# another\n")
    found = copied.estate.run("copies", "--verify", "all")
    assert found.code == 5, found.said
    assert "DIFFERS from the store" in found.err
    board = copied.estate.run("copies")
    assert (board.code, "1 copy: 1 DIFFERENT" in board.out) == (5, True), board.said


# ---- the worst day takes what is whole -------------------------------------------------------------------------------


def test_what_is_whole_is_rescued_and_the_rest_is_named(copied: Copied, tmp_path: Path) -> None:
    if copied.kind == "git":
        pytest.skip("its objects are compressed together: below")
    if copied.kind == "store":  # the first keyframe bears the others: damage a later one
        _run(
            copied.place / "ledger.sqlite",
            "UPDATE content SET data = CAST('x' AS BLOB) WHERE id = (SELECT max(id) FROM content)",
        )
    else:
        _damage(copied)
    text = copied.text.replace("keys/ssh", str(copied.estate.path / "keys" / "ssh"))
    (tmp_path / "copy.toml").write_text(f'[estate]\nname = "Lost"\n{text}')
    if copied.kind == "folder":
        (tmp_path / "anew").mkdir()
        shutil.copy(copied.estate.path / "historon.toml", tmp_path / "anew")
        arguments = ["new", "anew", "--store-only", "--from-copy", "copy.toml"]
    else:
        arguments = ["new", "anew", "--from-copy", str(copied.place) if copied.kind == "store" else "copy.toml"]
    made = historon(*arguments, cwd=tmp_path)
    assert made.code == 3, made.said
    assert "Traceback" not in made.said
    assert "DAMAGED in the copy, and left out: 1" in made.err
    assert re.search(r"  files(@\d+)? ", made.err), made.err
    listed = historon("versions", "files", "--json", cwd=tmp_path / "anew").rows
    assert len(listed) == 2
    status = historon("status", cwd=tmp_path / "anew")
    assert (status.code, "lost with the copy" in status.out) == (1, True), status.said
    assert historon("verify", "--accept-losses", cwd=tmp_path / "anew").code == 0
    assert "lost with the copy" not in historon("status", cwd=tmp_path / "anew").out


@pytest.mark.parametrize("share", [0.3, 0.6, 0.9])
def test_of_a_truncated_store_copy_what_can_be_read_is_rescued(
    files_estate: EstateFolder, tmp_path: Path, share: float
) -> None:
    place = tmp_path / "away"
    files_estate.write(FILES_ESTATE + f'[copies.away]\npath = "{place}"\n')
    for number in range(60):
        (files_estate.path / "data" / "a.conf").write_text("".join(f"line {number * one}\n" for one in range(200)))
        if number % 12 == 0:
            assert files_estate.run("collect").code == 0
    assert files_estate.run("copies", "--update").code == 0
    whole = (place / "ledger.sqlite").read_bytes()
    (place / "ledger.sqlite").write_bytes(whole[: int(len(whole) * share)])
    made = historon("new", "anew", "--from-copy", str(place), cwd=tmp_path)
    assert "Traceback" not in made.said
    assert made.code in (3, 5), made.said
    if made.code == 5:
        assert not (tmp_path / "anew").exists(), "no half-made folder is left"
    else:
        assert historon("verify", cwd=tmp_path / "anew").code == 0


def test_nothing_is_left_of_a_rescue_that_cannot_be(files_estate: EstateFolder, tmp_path: Path) -> None:
    place = tmp_path / "away"
    Copied(files_estate, "store", f'[copies.away]\npath = "{place}"\n', place)
    (place / "ledger.sqlite").write_bytes(zlib.compress(os.urandom(10_000)))
    made = historon("new", "anew", "--from-copy", str(place), cwd=tmp_path)
    assert made.code == 5
    assert "Traceback" not in made.said
    assert not (tmp_path / "anew").exists()


# ---- what a copy says is not believed --------------------------------------------------------------------------------


def test_no_program_of_a_copy_is_run(files_estate: EstateFolder, tmp_path: Path) -> None:
    place, ran = tmp_path / "away", tmp_path / "ran"
    copied = Copied(files_estate, "store", f'[copies.away]\npath = "{place}"\n', place)
    text = (place / "estate" / "historon.toml").read_text()
    hostile = f'[credentials.x]\nuser = "x"\npassword = "command:touch {ran}"\n[channels.y]\nkind = "webhook"\nurl = "command:touch {ran}"\n'
    (place / "estate" / "historon.toml").write_text(text + hostile)
    made = historon("new", "anew", "--from-copy", str(place), cwd=tmp_path)
    assert made.code == 0, made.said
    assert f"missing: command:touch {ran} (a program; it was not run: look at it first)" in made.out
    assert not ran.exists()
    database = text.replace(
        'name = "Test"',
        f'name = "Test"\nstore = "postgresql://x@127.0.0.1:1/x"\nstore_password = "command:touch {ran}"',
    )
    (place / "estate" / "historon.toml").write_text(database)
    refused = historon("new", "again", "--from-copy", str(place), cwd=tmp_path)
    assert (refused.code, "would run touch" in refused.err) == (2, True), refused.said
    assert not ran.exists()
    assert not (tmp_path / "again").exists()
    assert copied.estate.run("status").code == 0


_HEADS: dict[str, Callable[[dict[str, object]], object]] = {
    "a number that is none": lambda head: {**head, "changes": 41e999},
    "a long name": lambda head: {**head, "ledger": "ledgers/" + "a" * 5000},
    "a name elsewhere": lambda head: {**head, "ledger": "../../etc/passwd"},
    "a list": lambda head: [head],
    "deep": lambda head: "[" * 100_000,
}


@needs("an OpenSSH server")
@pytest.mark.parametrize("how", sampled(2, _HEADS))
def test_hostile_heads_end_in_a_sentence(tmp_path: Path, how: str) -> None:
    place = tmp_path / "away"
    place.mkdir()
    head: dict[str, object] = {"form": 1, "changes": 1, "ledger": "ledgers/x", "estate": "estates/x", "settings": ""}
    said = _HEADS[how](head)
    (place / "head.json").write_text(said if isinstance(said, str) else json.dumps(said))
    with running_server(tmp_path) as server:
        (tmp_path / "copy.toml").write_text(
            f'[estate]\nname = "Lost"\n[credentials.server]\nuser = "{server.user}"\n'
            f'key = "file:{server.client_key}"\n[copies.away]\nserver = "127.0.0.1"\nport = {server.port}\n'
            f'path = "{place}"\ncredentials = "server"\nhost_key = "{server.host_key}"\n'
        )
        made = historon("new", "anew", "--from-copy", "copy.toml", cwd=tmp_path)
    assert made.code == 5, made.said
    assert "head.json" in made.err
    assert "Traceback" not in made.said


@pytest.mark.skipif(_GIT is None, reason="this machine does not have git")
def test_no_store_is_made_of_a_repository_with_masks(files_estate: EstateFolder, tmp_path: Path) -> None:
    """Also where nothing but the repository itself tells of them."""
    place = tmp_path / "history.git"
    (files_estate.path / "data" / "a.conf").write_text("enable secret pw-canary-1234\n")
    files_estate.write(FILES_ESTATE + f'[copies.history]\nkind = "git"\npath = "{place}"\nmasked = true\n')
    assert files_estate.run("collect").code == 0
    assert files_estate.run("copies", "--update").code == 0
    (tmp_path / "anew").mkdir()
    (tmp_path / "anew" / "historon.toml").write_text(FILES_ESTATE)
    made = historon("new", "anew", "--store-only", "--from-copy", str(place), cwd=tmp_path)
    assert (made.code, "the secrets in this repository are masked" in made.err) == (6, True), made.said
    assert not (tmp_path / "anew" / "store" / "ledger.sqlite").exists()


# ---- a copy's failure is the copy's ----------------------------------------------------------------------------------


@pytest.mark.parametrize("kind", ["store", "folder", "git"])
def test_a_copy_without_a_parent_folder_does_not_end_the_service(files_estate: EstateFolder, kind: str) -> None:
    good = '[copies.good]\nkind = "folder"\npath = "good"\n'
    files_estate.write(FILES_ESTATE + f'[copies.away]\nkind = "{kind}"\npath = "none/there/away"\n' + good)
    assert files_estate.run("collect").code == 0
    served = files_estate.run("serve", "--once")
    assert served.code == 0, served.said
    assert "copy away: " in served.err
    assert "copy good: up to date" in served.err
    assert "Traceback" not in served.said


@pytest.mark.skipif(_GIT is None, reason="this machine does not have git")
def test_an_amended_tip_is_told_at_update(files_estate: EstateFolder, tmp_path: Path) -> None:
    place = tmp_path / "history.git"
    copied = Copied(files_estate, "git", f'[copies.away]\nkind = "git"\npath = "{place}"\n', place)
    who = {"GIT_AUTHOR_NAME": "x", "GIT_AUTHOR_EMAIL": "x@x", "GIT_COMMITTER_NAME": "x", "GIT_COMMITTER_EMAIL": "x@x"}
    git = ["git", "--git-dir", str(place)]
    run = {"check": True, "capture_output": True, "text": True, "env": {**os.environ, **who}}
    tree = subprocess.run([*git, "rev-parse", "main~1^{tree}"], **run).stdout.strip()  # type: ignore[call-overload]
    message = subprocess.run([*git, "log", "-1", "--format=%B", "main"], **run).stdout  # type: ignore[call-overload]
    made = subprocess.run([*git, "commit-tree", tree, "-p", "main~1", "-m", message], **run).stdout.strip()  # type: ignore[call-overload]
    subprocess.run([*git, "update-ref", "refs/heads/main", made], **run)  # type: ignore[call-overload]
    result = copied.estate.run("copies", "--update")
    assert (result.code, "its history was changed since the last update" in result.err) == (5, True), result.said


@pytest.mark.parametrize("name", ["SHA256SUMS", "copy.json"])
def test_a_source_is_not_called_like_a_file_of_a_copy(files_estate: EstateFolder, name: str) -> None:
    text = FILES_ESTATE.replace('name = "files"\n', f'name = "{name}"\n')
    files_estate.write(text + '[copies.away]\nkind = "folder"\npath = "away"\n')
    refused = files_estate.run("sources")
    assert (refused.code, f'has a file of its own that is called "{name}"' in refused.err) == (4, True), refused.said


_KILLED = """
import os, sqlite3, sys
db = sqlite3.connect(sys.argv[1], isolation_level=None)
db.execute("PRAGMA cache_size = 1")
db.execute("BEGIN IMMEDIATE")
db.execute("UPDATE content SET data = randomblob(300000)")
db.execute("UPDATE version SET parts = x''")
os.kill(os.getpid(), 9)
"""


def test_a_killed_store_copy_is_read_without_historon_and_made_an_estate(
    files_estate: EstateFolder, tmp_path: Path
) -> None:
    place = tmp_path / "away"
    Copied(files_estate, "store", f'[copies.away]\npath = "{place}"\n', place)
    killed = subprocess.run([sys.executable, "-c", _KILLED, place / "ledger.sqlite"], check=False)
    assert killed.returncode == -9
    assert (place / "ledger.sqlite-journal").stat().st_size > 0, "it died in the middle"
    script = Path(__file__).parent.parent / "docs" / "read_store.py"
    for number, text in ((1, "one\n"), (3, "three\n")):
        arguments = [str(place / "ledger.sqlite"), "files", str(number), "data/a.conf"]
        read = subprocess.run([sys.executable, script, *arguments], capture_output=True, text=True, check=False)
        assert (read.returncode, read.stdout) == (0, text), read.stderr
    made = historon("new", "anew", "--from-copy", str(place), cwd=tmp_path)
    assert made.code == 0, made.said
    assert historon("show", "files@1", "data/a.conf", cwd=tmp_path / "anew").out == "one\n"
