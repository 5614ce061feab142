"""A second place for all versions: whole, never replaced by less, and reported when it falls behind."""

import json
import os
import re
import shutil
import sqlite3
from contextlib import closing
from datetime import UTC, datetime, timedelta
from pathlib import Path

import pytest

from historon.store import FolderStore
from tests.conftest import FILES_ESTATE, EstateFolder, historon, prune

COPIED = (
    FILES_ESTATE
    + '[copies.saltgate]\npath = "saltgate"\n[channels.c]\nkind = "file"\npath = "told.jsonl"\ntell = "trouble"\n'
)


@pytest.fixture
def filled(files_estate: EstateFolder) -> EstateFolder:
    files_estate.write(COPIED)
    for text in ("one\n", "two\n"):
        (files_estate.path / "data" / "a.conf").write_text(text)
        assert files_estate.run("collect").code == 0
    return files_estate


def _ledger(estate: EstateFolder) -> Path:
    return estate.path / "saltgate" / "ledger.sqlite"


def test_a_copy_is_a_store_of_its_own_byte_for_byte(filled: EstateFolder) -> None:
    assert "saltgate  store  behind for" in filled.run("copies").out
    assert "saltgate: up to date: 2 versions of 1 source" in filled.run("copies", "--update").out
    assert "saltgate  store  up to date" in filled.run("copies").out
    assert _ledger(filled).stat().st_mode & 0o777 == 0o600
    assert sorted(os.listdir(filled.path / "saltgate")) == ["estate", "ledger.sqlite"]
    assert "2 versions of 1 source read: all intact" in filled.run("copies", "--verify").out
    copy = FolderStore(filled.path / "saltgate")
    assert [copy.read(part) for part in copy.parts("files", 2) if part.name == "data/a.conf"] == [b"two\n"]
    copy.close()
    (filled.path / "data" / "a.conf").write_text("three\n")
    filled.run("collect")
    assert "saltgate  store  behind for" in filled.run("copies").out
    assert filled.run("copies", "saltgate", "--update", "--verify").code == 0
    assert filled.run("copies", "--json").rows[0]["missing_since"] is None


def test_a_suspect_version_and_a_hold_are_missing_too(filled: EstateFolder) -> None:
    filled.run("copies", "--update")
    assert filled.run("hold", "files@1", "--because", "why").code == 0
    assert "behind for" in filled.run("copies").out
    filled.run("copies", "--update")
    assert "saltgate  store  up to date" in filled.run("copies").out
    (filled.path / "data" / "b.json").write_text('{"cut": ')
    assert filled.run("collect").code == 3
    assert "behind for" in filled.run("copies").out
    filled.run("copies", "--update")
    assert filled.run("copies", "--json").rows[0]["missing_since"] is None


def test_what_is_missing_counts_from_when_it_was_first_seen(filled: EstateFolder) -> None:
    """A source that changes every hour does not make a copy young."""
    filled.run("copies", "--update")
    filled.run("hold", "files@1", "--because", "why")
    first = filled.run("copies", "--json").rows[0]["missing_since"]
    (filled.path / "data" / "a.conf").write_text("later\n")
    filled.run("collect")
    assert filled.run("copies", "--json").rows[0]["missing_since"] == first


def test_a_folder_that_cannot_be_written_is_told_so(filled: EstateFolder) -> None:
    filled.write(COPIED.replace('path = "saltgate"', 'path = "/proc/saltgate"'))
    result = filled.run("copies", "--update")
    assert result.code == 5
    assert "saltgate: /proc/saltgate:" in result.err
    assert "check that it is mounted, and writable" in result.err


def test_a_copy_that_knows_more_than_the_store_is_never_replaced(filled: EstateFolder) -> None:
    filled.run("copies", "--update")
    before = _ledger(filled).read_bytes()
    shutil.rmtree(filled.path / "store")
    FolderStore.create(filled.path / "store").close()
    other = filled.run("copies", "--update")
    assert other.code == 5
    assert "holds the copy of another store" in other.err
    db = sqlite3.connect(_ledger(filled))
    (key,) = db.execute("SELECT value FROM meta WHERE name = 'fingerprint_key'").fetchone()
    db.close()
    db = sqlite3.connect(filled.path / "store" / "ledger.sqlite")
    db.execute("UPDATE meta SET value = ? WHERE name = 'fingerprint_key'", (key,))
    db.commit()
    db.close()
    assert filled.run("collect").code == 0
    lost = filled.run("copies", "--update")
    assert lost.code == 5
    assert "has files@1, which is neither in the store nor removed on record" in lost.err
    assert [row["version"] for row in filled.run("versions", "files", "--json").rows] == [3], "2 numbers were lost"
    assert _ledger(filled).read_bytes() == before


_HARM = {
    "a rotted bit": "UPDATE content SET data = CAST(substr(data, 1, length(data) - 1) || x'00' AS BLOB) WHERE id = (SELECT min(id) FROM content)",
    "a rotted digest": "UPDATE content SET sha256 = randomblob(32) WHERE id = (SELECT min(id) FROM content)",
    "a lost content": "DELETE FROM content WHERE id = (SELECT min(id) FROM content)",
    "a lost version": "DELETE FROM version WHERE number = 1",
    "the newest cut off": "DELETE FROM version WHERE number = 2; UPDATE source SET last_number = 1, good = 1",
    "a source lost": "DELETE FROM version; DELETE FROM source WHERE name = 'files'",
}


@pytest.mark.parametrize("harm", _HARM)
def test_loss_and_damage_do_not_travel(filled: EstateFolder, harm: str) -> None:
    filled.run("copies", "--update")
    before = _ledger(filled).read_bytes()
    db = sqlite3.connect(filled.path / "store" / "ledger.sqlite")
    db.executescript(_HARM[harm])
    db.commit()
    db.close()
    for number in range(2):
        (filled.path / "data" / "a.conf").write_text(f"later {number}\n")
        filled.run("collect")
        result = filled.run("copies", "--update")
        assert result.code == 5
        assert "it was not changed" in result.err or "the copy was not changed" in result.err
        assert _ledger(filled).read_bytes() == before
        assert sorted(os.listdir(filled.path / "saltgate")) == ["estate", "ledger.sqlite"]
    verified = filled.run("copies", "--verify", "all")
    assert "DAMAGED" not in verified.err, "the copy itself is whole"
    differs = harm != "a rotted bit"
    assert (verified.code, "DIFFERS from the store" in verified.err) == (5 if differs else 0, differs)


def test_what_was_pruned_on_record_may_go_from_the_copy_too(filled: EstateFolder) -> None:
    filled.run("copies", "--update")
    filled.write(COPIED + '[retention.r]\nall = "1ms"\nat_least = 1\n[defaults]\nretention = "r"\n')
    assert prune(filled).code == 0
    assert filled.run("copies", "--update").code == 0
    copy = FolderStore(filled.path / "saltgate")
    assert [one.number for one in copy.versions("files")] == [2]
    copy.close()
    assert filled.run("copies", "--verify").code == 0


def test_a_copy_that_is_damaged_itself_is_told_and_stays(filled: EstateFolder) -> None:
    filled.run("copies", "--update")
    content = bytearray(_ledger(filled).read_bytes())
    content[4096:8192] = bytes(4096)
    _ledger(filled).write_bytes(content)
    (filled.path / "data" / "a.conf").write_text("later\n")
    filled.run("collect")
    result = filled.run("copies", "--update")
    assert result.code == 5
    assert "the copy there is damaged; it was not changed" in result.err
    assert _ledger(filled).read_bytes() == content


@pytest.mark.parametrize(
    ("copy", "said"),
    [
        ('path = "data/a.conf"', "data/a.conf: "),
        ('path = "none/saltgate"', "No such file"),
        ('path = "store"', "is the store itself"),
        ('path = "saltgate"\nmount = "data"', "nothing is mounted at"),
    ],
)
def test_a_place_that_is_not_there_is_told_and_nothing_is_made(
    files_estate: EstateFolder, copy: str, said: str
) -> None:
    files_estate.write(FILES_ESTATE + f"[copies.saltgate]\n{copy}\n")
    result = files_estate.run("copies", "--update")
    assert result.code == 5
    assert said in result.err
    assert not (files_estate.path / "saltgate").exists()
    assert files_estate.run("copies", "volt").code == 2


def test_damage_of_a_copy_is_found(filled: EstateFolder) -> None:
    filled.run("copies", "--update")
    db = sqlite3.connect(_ledger(filled))
    db.execute("UPDATE content SET sha256 = randomblob(32)")
    db.commit()
    db.close()
    found = filled.run("copies", "--verify")
    assert found.code == 5
    assert "saltgate: files@" in found.err
    assert "DAMAGED" in found.err


def test_the_service_brings_copies_up_to_date_and_tells_when_one_is_behind(filled: EstateFolder) -> None:
    assert "copy saltgate: up to date, 2 versions" in filled.run("serve", "--once").err
    assert "copy saltgate" not in filled.run("serve", "--once").err, "nothing is missing in it"
    filled.write(COPIED.replace('path = "saltgate"', 'path = "none/saltgate"\nmax_lag = "1h"'))
    store = filled.store()
    store.remember("", "copy saltgate", f"{(datetime.now(UTC) - timedelta(days=3)).isoformat()} 1")
    store._db.execute("UPDATE source SET good_at = good_at - 7200000")
    store.close()
    filled.run("serve", "--once")
    filled.run("serve", "--once")
    gone = filled.run("copies")
    assert (gone.code, "1 copy: 1 MISSING" in gone.out) == (5, True), "what was written there is not there any more"
    filled.write(COPIED)
    filled.run("serve", "--once")
    told = [json.loads(line) for line in (filled.path / "told.jsonl").read_text().splitlines()]
    kinds = [event["kind"] for notice in told for event in notice["events"] if event["kind"] != "estate-changed"]
    assert kinds == ["copy-behind", "copy-well"]
    assert "saltgate has been incomplete for 2h" in told[0]["text"]


def test_the_doctor_sees_a_copy_that_would_die_with_the_store(filled: EstateFolder) -> None:
    assert "saltgate is on the same disk as the store, and would be lost with it" in filled.run("doctor").out


def test_the_doctor_says_all_else_too_when_the_store_is_missing(filled: EstateFolder) -> None:
    filled.write(COPIED + '[retention.unused]\nall = "30d"\n')
    shutil.rmtree(filled.path / "store")
    result = filled.run("doctor")
    assert result.code == 1
    assert "there is no store here" in result.out
    assert "retention unused" in result.out
    rows = filled.run("doctor", "--json").rows
    assert rows[0]["about"] == "store"
    assert len(rows) > 1


# ---- the day the machine is lost -------------------------------------------------------------------------------------

_WHOLE_ESTATE = """
[estate]
name = "Lost"
time_zone = "Europe/Oslo"
sources_from = "sources.csv"
procedures_from = "procedures"
store_password = "file:keys/unused"
[credentials.c]
user = "reader"
password = "file:keys/password"
[channels.hook]
kind = "webhook"
url = "env:HOOK"
template = "hook.json"
tell = "trouble"
[defaults]
procedure = "files"
credentials = "c"
[copies.away]
path = "AWAY"
"""
_PAGE = (Path(__file__).parent.parent / "docs" / "lost-machine.md").read_text()


def test_a_lost_machine_is_rebuilt_by_the_commands_of_the_page(estate: EstateFolder, tmp_path: Path) -> None:
    away, anew = tmp_path / "away", tmp_path / "anew"
    data = tmp_path / "data"
    data.mkdir()
    estate.write(_WHOLE_ESTATE.replace("AWAY", str(away)))
    estate.write("name,address\none,10.0.0.1\ntwo,10.0.0.2\n", "sources.csv")
    estate.write("[{{ events | length }}]", "hook.json")
    estate.write("# none yet\n", "known_hosts")
    (estate.path / "procedures").mkdir()
    estate.write(f'over = "local"\nsteps = [{{ pull = "{data}/{{name}}.conf" }}]\n', "procedures/files.toml")
    for name, secret in (("password", "pw-canary-1234"), ("unused", "pw-canary-5678")):
        (estate.path / "keys" / name).write_text(secret)
        (estate.path / "keys" / name).chmod(0o600)
    for text in ("first\n", "second\n"):
        for name in ("one", "two"):
            (data / f"{name}.conf").write_text(text)
        assert estate.run("collect").code == 0
    assert estate.run("copies", "--update").code == 0
    held = {file.relative_to(away).as_posix() for file in away.rglob("*") if file.is_file()}
    assert held == {
        "ledger.sqlite",
        *(
            f"estate/{name}"
            for name in ("historon.toml", "sources.csv", "procedures/files.toml", "hook.json", "known_hosts")
        ),
    }
    assert not any(b"pw-canary" in (away / name).read_bytes() for name in held), "secrets are in no copy"
    shutil.rmtree(estate.path)

    assert f"historon new /srv/historon --from-copy {'/mnt/saltgate/historon'}" in _PAGE
    made = historon("new", anew, "--from-copy", away, cwd=tmp_path)
    assert made.code == 0, made.err
    assert "4 versions of 2 sources" in made.out
    missing = re.findall(r"^missing: (.+)$", made.out, re.MULTILINE)
    assert missing == ["file:keys/unused", "file:keys/password", "env:HOOK"]
    assert (anew.stat().st_mode & 0o077, (anew / "historon.toml").stat().st_mode & 0o077) == (0, 0)
    for name in ("password", "unused"):
        (anew / "keys" / name).touch(mode=0o600)
        (anew / "keys" / name).write_text("pw-canary-1234")
    commands = re.findall(r"^    historon (doctor|verify|collect)$", _PAGE, re.MULTILINE)
    assert commands == ["doctor", "verify", "collect"]
    results = {command: historon(command, cwd=anew, HOOK="http://127.0.0.1:9/") for command in commands}
    assert results["doctor"].code == 0, results["doctor"].said
    assert "4 versions" in results["verify"].out
    assert results["collect"].out.count("unchanged") >= 2, results["collect"].said
    assert historon("show", "one@1", cwd=anew).out == "first\n"


def test_what_lies_outside_the_estates_folder_is_not_carried(filled: EstateFolder) -> None:
    (filled.path.parent / "known_hosts").write_text("# of all\n")
    filled.write(COPIED.replace('name = "Test"', 'name = "Test"\nknown_hosts = "../known_hosts"'))
    assert filled.run("copies", "--update").code == 0
    assert sorted(os.listdir(filled.path / "saltgate")) == ["estate", "ledger.sqlite"]
    assert os.listdir(filled.path / "saltgate" / "estate") == ["historon.toml"]
    filled.write(COPIED)
    (filled.path / "known_hosts").write_text("# our own\n")
    (filled.path / "beside").mkdir()
    assert filled.run("copies", "--update", "--estate", "beside/../historon.toml").code == 0
    assert sorted(os.listdir(filled.path / "saltgate" / "estate")) == ["historon.toml", "known_hosts"]


def test_an_estate_that_changed_makes_its_copy_behind(filled: EstateFolder) -> None:
    assert filled.run("copies", "--update").code == 0
    assert "up to date" in filled.run("copies").out
    filled.write(COPIED + "# a remark\n")
    assert "behind" in filled.run("copies").out
    assert filled.run("copies", "--update").code == 0
    assert "up to date" in filled.run("copies").out
    assert (filled.path / "saltgate" / "estate" / "historon.toml").read_text().endswith("# a remark\n")


def test_an_estate_is_made_over_nothing_and_of_nothing_else(filled: EstateFolder, tmp_path: Path) -> None:
    filled.run("copies", "--update")
    again = historon("new", filled.path, "--from-copy", filled.path / "saltgate", cwd=tmp_path)
    assert (again.code, "already exists; nothing was changed" in again.err) == (6, True)
    nothing = historon("new", tmp_path / "new", "--from-copy", filled.path / "store", cwd=tmp_path)
    assert (nothing.code, "has no estate file" in nothing.err) == (2, True)
    (filled.path / "saltgate" / "ledger.sqlite").write_bytes(b"not a ledger" * 1000)
    damaged = historon("new", tmp_path / "damaged", "--from-copy", filled.path / "saltgate", cwd=tmp_path)
    assert damaged.code == 5


def test_a_store_in_a_folder_with_a_retention_of_its_own(filled: EstateFolder) -> None:
    text = (filled.path / "historon.toml").read_text()
    own = '[copies.short]\npath = "short"\nretention = "two"\n[retention.two]\nat_least = 1\nat_most = 2\n'
    filled.write(text + own)
    for count in range(3):
        (filled.path / "data" / "a.conf").write_text(f"edit {count}\n")
        assert filled.run("collect").code == 0
    numbers = [row["version"] for row in filled.run("versions", "files", "--json", "--all").rows]
    assert filled.run("copies", "--update").code == 0
    assert "up to date" in filled.run("copies").out

    def held() -> list[int]:
        with closing(FolderStore(filled.path / "short")) as copy:
            assert copy.check() == []
            for version in copy.versions("files"):
                assert {part.name: copy.read(part) for part in copy.parts("files", version.number)}
            return [version.number for version in copy.versions("files")]

    assert held() == sorted(numbers)[-2:]
    (filled.path / "data" / "a.conf").write_text("one more\n")
    assert filled.run("collect").code == 0
    assert "behind" in filled.run("copies").out
    assert filled.run("copies", "--update").code == 0
    assert held() == [max(numbers), max(numbers) + 1]
    assert "all intact" in filled.run("copies", "--verify", "all").out
    filled.write(text + own.replace("at_most = 2", "at_most = 4"))
    (filled.path / "data" / "a.conf").write_text("another\n")
    assert filled.run("collect").code == 0
    assert filled.run("copies", "--update").code == 0
    assert len(held()) == 4, "a retention that keeps more brings back what the store still has"
