"""What belongs to whom: a store to one estate file on one machine, its numbers to versions that other places may hold."""

import json
import mailbox
import shutil
import sqlite3
from collections.abc import Callable
from email.message import EmailMessage
from pathlib import Path

import pytest

from historon.collect.identities import IDENTITY
from historon.standins.capstan import Capstan
from historon.store import LEDGER, writers
from tests.conftest import FILES_ESTATE, ROUTER_CONFIG, EstateFolder, collect

_COPY = '[copies.far]\nkind = "store"\npath = "far"\n'
_FOLDER = '[copies.far]\nkind = "folder"\npath = "far"\n'
_GIT = '[copies.far]\nkind = "git"\npath = "far"\n'


@pytest.fixture
def kept(files_estate: EstateFolder) -> EstateFolder:
    """An estate with two versions."""
    for port in (1, 2):
        _edit(files_estate, port)
        collect(files_estate)
    return files_estate


def _edit(kept: EstateFolder, port: int) -> None:
    (kept.path / "data" / "a.conf").write_text(f"hostname a\nport {port}\n")


def _numbers(kept: EstateFolder) -> list[int]:
    return sorted(row["version"] for row in kept.run("versions", "files", "--json", "--all").rows)


def _lab(kept: EstateFolder, more: str = "") -> EstateFolder:
    """Another estate file that points at the store of the first one."""
    lab = EstateFolder(kept.path.parent / "lab")
    lab.path.mkdir()
    (lab.path / "data").mkdir()
    (lab.path / "data" / "a.conf").write_text("hostname lab\n")
    store = kept.path / "store"
    lab.write(FILES_ESTATE.replace("[procedures", f'store = "{store}"\n[procedures', 1) + more)
    return lab


@pytest.mark.parametrize(
    "command",
    [
        ("collect",),
        ("collect", "files"),
        ("serve", "--once"),
        ("prune", "--yes"),
        ("hold", "files@1"),
        ("copies", "--update"),
    ],
)
def test_another_estate_reads_a_store_and_does_not_change_it(kept: EstateFolder, command: tuple[str, ...]) -> None:
    lab = _lab(kept, _COPY + "[retention.r]\nat_most = 1\nat_least = 1\n")
    text = (lab.path / "historon.toml").read_text()
    lab.write(text.replace('name = "files"', 'name = "files"\nretention = "r"', 1))
    assert _numbers(lab) == [1, 2]
    result = lab.run(*command)
    assert result.code == 5, result.said
    assert f"this store belongs to {kept.path / 'historon.toml'} on " in result.err
    assert "historon store --moved" in result.err
    assert _numbers(kept) == [1, 2]
    assert not (lab.path / "far").exists()
    status = lab.run("status")
    assert (status.code, "this store belongs to" in status.out) == (1, True)
    assert kept.run("status").code == 0


def test_the_service_of_another_estate_ends_and_reports_it(kept: EstateFolder) -> None:
    lab = _lab(kept, '[channels.log]\nkind = "file"\npath = "told.jsonl"\n')
    assert lab.run("serve", "--once").code == 5
    told = [json.loads(line) for line in (lab.path / "told.jsonl").read_text().splitlines()]
    assert [event["kind"] for notice in told for event in notice["events"]] == ["store-claimed"]
    lab.run("serve", "--once")
    assert len((lab.path / "told.jsonl").read_text().splitlines()) == 1, "once, however often it is started"


def test_an_estate_that_moved_says_so_once(kept: EstateFolder) -> None:
    moved = EstateFolder(kept.path.parent / "moved")
    kept.path.rename(moved.path)
    _edit(moved, 3)
    assert moved.run("collect").code == 5
    shown = moved.run("store")
    assert (shown.code, "it can read the store, but not change it" in shown.out) == (5, True)
    assert moved.run("store", "--moved").code == 0
    collect(moved)
    assert _numbers(moved) == [1, 2, 3]
    assert moved.run("store").code == 0


def test_another_machine_with_the_same_paths_is_another_one(
    kept: EstateFolder, monkeypatch: pytest.MonkeyPatch, tmp_path: Path
) -> None:
    store, file = kept.store(), kept.path / "historon.toml"
    assert writers.stranger(store, file) == ""
    (tmp_path / "id").write_text("0123456789abcdef0123456789abcdef\n")
    monkeypatch.setattr(writers, "_MACHINE_ID", tmp_path / "id")
    elsewhere = writers.stranger(store, file)
    monkeypatch.setattr(writers, "_MACHINE_ID", tmp_path / "none")
    assert writers.stranger(store, file) == "", "a machine without a name of its own may be any"
    assert bool(elsewhere) is bool(writers.writers_of(store)[0].machine)
    writers.admit_writer(store, tmp_path / "historon.toml", beside=True)
    assert writers.stranger(store, file) == writers.stranger(store, tmp_path / "historon.toml") == ""
    store.close()


def test_a_copied_estate_becomes_one_of_its_own(kept: EstateFolder) -> None:
    kept.write(FILES_ESTATE + _COPY)
    assert kept.run("copies", "--update").code == 0
    second = EstateFolder(kept.path.parent / "second")
    shutil.copytree(kept.path, second.path)
    second.write(FILES_ESTATE + f'[copies.far]\nkind = "store"\npath = "{kept.path / "far"}"\n')
    assert second.run("collect").code == 5
    told = second.run("store", "--copied")
    assert "give its copies other places: far" in told.out
    _edit(second, 7)
    collect(second)
    refused = second.run("copies", "--update")
    assert (refused.code, "holds the copy of another store" in refused.said) == (5, True)
    assert kept.run("copies", "--update").code == 0
    assert kept.run("status").code == 0


def _lose_version_3(kept: EstateFolder) -> None:
    """Restore a snapshot of the store from before version 3, which the copy holds."""
    shutil.copytree(kept.path / "store", kept.path.parent / "snapshot")
    _edit(kept, 3)
    collect(kept)
    assert kept.run("copies", "--update").code == 0
    shutil.rmtree(kept.path / "store")
    (kept.path.parent / "snapshot").rename(kept.path / "store")


@pytest.mark.parametrize("copy", [_COPY, _FOLDER, _GIT])
@pytest.mark.parametrize("how", ["collect", "serve"])
def test_a_store_that_went_back_gives_no_number_twice(kept: EstateFolder, copy: str, how: str) -> None:
    """A snapshot is restored: the copy holds @3, which the store has lost; the next version is @4."""
    kept.write(FILES_ESTATE + copy)
    assert kept.run("copies", "--update").code == 0
    _lose_version_3(kept)
    if copy != _GIT:  # which is asked by collecting alone, as it runs a program
        assert kept.run("copies").code == 5
        said = kept.run("status")
        assert (said.code, "the store is older than this copy" in said.out) == (1, True)
    _edit(kept, 4)
    if how == "serve":
        kept.run("serve", "--once")
        kept.run("collect")
    else:
        kept.run("copies", "--update")
        kept.run("collect")
    assert _numbers(kept) == [1, 2, 4], "number 3 is the lost version's"
    assert kept.run("status").code == 1
    assert kept.run("copies").code == 5, "until a person has looked"
    refused = kept.run("copies", "--update")
    assert refused.code == 5
    assert _numbers(kept) == [1, 2, 4]


def test_collecting_alone_keeps_numbers_of_a_copy_here(kept: EstateFolder) -> None:
    kept.write(FILES_ESTATE + _COPY)
    _lose_version_3(kept)
    _edit(kept, 4)
    kept.run("collect")
    assert _numbers(kept) == [1, 2, 4]
    assert kept.run("copies").code == 5


def test_the_store_of_a_lost_machine_belongs_to_the_one_that_takes_its_place(kept: EstateFolder) -> None:
    kept.write(FILES_ESTATE + _COPY)
    kept.run("copies", "--update")
    made = EstateFolder(kept.path.parent / "made")
    assert kept.run("new", made.path, "--from-copy", kept.path / "far").code == 0
    (made.path / "data").mkdir()
    _edit(made, 9)
    collect(made)
    assert _numbers(made) == [1, 2, 3]


@pytest.mark.parametrize("damage", ["{", "[{}]", "7"])
def test_a_record_of_writers_that_nobody_can_read_is_said(kept: EstateFolder, damage: str) -> None:
    db = sqlite3.connect(kept.path / "store" / LEDGER)
    db.execute("UPDATE memory SET text = ? WHERE topic = 'writers'", (damage,))
    db.commit()
    db.close()
    result = kept.run("collect")
    assert (result.code, "the record of who writes this store is unreadable" in result.err) == (5, True)
    assert kept.run("store", "--moved").code == 0
    assert kept.run("collect").code == 0


# ---- sources ---------------------------------------------------------------------------------------------------------

_TWO = """
[estate]
name = "Test"
time_zone = "Europe/Oslo"
[procedures.files]
over = "local"
steps = [{ pull = "{path}", as = "active.cfg" }]
[[sources]]
name = "one"
procedure = "files"
values = { path = "one.cfg" }
[[sources]]
name = "two"
procedure = "files"
values = { path = "two.cfg" }
"""


def _config(name: str, port: int = 1) -> str:
    return f"hostname {name}\n" + "".join(f"interface port-{n}\n  speed {port * 100}\n" for n in range(20)) + "end\n"


@pytest.fixture
def two(files_estate: EstateFolder) -> EstateFolder:
    files_estate.write(_TWO)
    for name in ("one", "two"):
        (files_estate.path / f"{name}.cfg").write_text(_config(f"edge-{name}"))
    collect(files_estate)
    return files_estate


def _outcomes(estate: EstateFolder) -> dict[str, tuple[str, str]]:
    last = estate.run("rounds", "--json").rows[0]["round"]
    rows = estate.run("rounds", str(last), "--json").rows
    return {row["source"]: (row["outcome"], row["note"] or "") for row in rows}


@pytest.mark.parametrize("line", ['  "hostname": "{}",', "<host-name>{}</host-name>", "set system host-name {}"])
def test_a_name_is_found_in_documents_and_commands(two: EstateFolder, line: str) -> None:
    for name in ("edge-one", "edge-nine"):
        text = _config("x").replace("hostname x", line.format(name))
        (two.path / "one.cfg").write_text(text)
        two.run("collect")
        two.run("vouch", "one@2")
    assert _outcomes(two)["one"][1] == "active.cfg says it is edge-nine, and was edge-one"


def test_a_device_that_says_another_name_is_suspect(two: EstateFolder) -> None:
    (two.path / "one.cfg").write_text(_config("edge-nine", 2))
    two.run("collect")
    assert _outcomes(two)["one"] == ("suspect", "active.cfg says it is edge-nine, and was edge-one")
    assert two.run("vouch", "one@2").code == 0, "it was renamed"
    collect(two)
    assert _outcomes(two)["one"][0] == "unchanged"


def test_a_text_that_names_many_hosts_may_name_others(two: EstateFolder) -> None:
    (two.path / "one.cfg").write_text("\n".join(f"hostname host-{n} {'x' * 40}" for n in range(9)) + "\n")
    two.run("collect")
    assert two.run("vouch", "one@2").code == 0
    file = two.path / "one.cfg"
    file.write_text(file.read_text().replace("host-0", "host-77"))
    collect(two)
    assert _outcomes(two)["one"] == ("changed", "")


def test_an_export_that_is_another_sources_is_suspect(two: EstateFolder) -> None:
    for name in ("one", "two"):
        (two.path / f"{name}.cfg").write_text(_config(f"edge-{name}").replace("hostname", "called"))
    collect(two)
    for name in ("one", "two"):
        (two.path / f"{name}.cfg").write_text(_config(f"edge-{name}", 2).replace("hostname", "called"))
    collect(two)
    shutil.copy(two.path / "two.cfg", two.path / "one.cfg")
    two.run("collect")
    assert _outcomes(two)["one"] == ("suspect", "it equals the export of two, to the byte")


def test_sources_that_share_a_file_may_do_so(two: EstateFolder) -> None:
    (two.path / "three.cfg").write_text(_config("edge-two"))
    two.write(_TWO + '[[sources]]\nname = "three"\nprocedure = "files"\nvalues = { path = "three.cfg" }\n')
    collect(two)
    assert _outcomes(two)["three"] == ("new", "it equals the export of two, to the byte: is its address right?")
    (two.path / "three.cfg").write_text(_config("edge-two", 3))
    collect(two)
    (two.path / "two.cfg").write_text(_config("edge-two", 3))
    collect(two)
    assert _outcomes(two)["two"][0] == "changed", "they were the same before"


_ROUTER = '[procedures.p]\nover = "ssh-exec"\nsteps = [{{ keep = "show", as = "a{}" }}]\n'


@pytest.mark.parametrize(("own", "code"), [("", 4), ("-{name}", 0)])
def test_one_device_under_two_names_is_a_mistake(files_estate: EstateFolder, own: str, code: int) -> None:
    sources = "".join(
        f'[[sources]]\nname = "{name}"\nprocedure = "p"\naddress = "192.0.2.1"\ncredentials = "c"\n' for name in "ab"
    )
    head = '[estate]\nname = "Test"\n[credentials.c]\nuser = "u"\npassword = "env:PW"\n'
    files_estate.write(head + _ROUTER.format(own) + sources)
    result = files_estate.run("sources")
    assert result.code == code, result.said
    assert ("has the address, the procedure and the values of a" in result.err) is (code == 4)


def test_doctor_names_sources_that_show_one_key(files_estate: EstateFolder) -> None:
    sources = "".join(
        f'[[sources]]\nname = "s{n}"\nprocedure = "p"\naddress = "192.0.2.{n}"\ncredentials = "c"\n' for n in (1, 2, 3)
    )
    head = '[estate]\nname = "Test"\n[credentials.c]\nuser = "u"\npassword = "env:PW"\n'
    files_estate.write(head + _ROUTER.format("") + sources)
    key = "ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIOMqqnkVzrm0SdG6UOoqKLsabgH5C9okWi0dh2l9GKJl"
    (files_estate.path / "known_hosts").write_text(f"192.0.2.1 {key}\n192.0.2.3 {key}\n192.0.2.2 {key[:-1]}m\n")
    said = files_estate.run("doctor", PW="x").out
    assert "s1" in said
    assert "shows the same host key as s3" in " ".join(said.split())


@pytest.mark.parametrize("fits", ["edge-1", "edge-10"])
def test_a_letter_that_fits_two_sources_is_taken_by_none(files_estate: EstateFolder, fits: str) -> None:
    box = mailbox.Maildir(str(files_estate.path / "mail"))
    letter = EmailMessage()
    letter["From"], letter["To"], letter["Subject"] = "a@example.org", "b@example.org", f"export of {fits}"
    letter.add_attachment(b"hostname x\nend\n", maintype="text", subtype="plain", filename="export.cfg")
    box.add(letter.as_bytes())
    procedures = "".join(
        f'[procedures.p{n}]\nover = "mailbox"\nfolder = "mail"\nthen = "remove"\n'
        f'steps = [{{ pull = "*.cfg", as = "a.cfg", subject = "edge-{n}" }}]\n'
        f'[[sources]]\nname = "edge-{n}"\nprocedure = "p{n}"\n'
        for n in ("1", "10")
    )
    files_estate.write('[estate]\nname = "Test"\n' + procedures)
    result = files_estate.run("collect")
    if fits == "edge-1":
        assert result.code == 0, "the other pattern does not fit it"
        assert _outcomes(files_estate)["edge-1"][0] == "new"
        return
    assert result.code == 3
    outcomes = _outcomes(files_estate)
    assert 'the mail "export of edge-10" fits edge-10 too; neither collects it' in outcomes["edge-1"][1]
    assert 'the mail "export of edge-10" fits edge-1 too; neither collects it' in outcomes["edge-10"][1]
    assert len(mailbox.Maildir(str(files_estate.path / "mail"))) == 1, "it stays where it is"


def test_a_copied_estate_takes_nothing_from_a_drop_folder_it_shares(files_estate: EstateFolder) -> None:
    """Two machines with one estate would each have half the history: the second one has to say what it is."""
    drop = files_estate.path.parent / "drop"
    drop.mkdir()
    procedure = f'[procedures.p]\nover = "drop-folder"\nfolder = "{drop}"\nthen = "remove"\n'
    steps = 'steps = [{ pull = "{name}-*.cfg", as = "a.cfg", complete = "ends:end" }]\n'
    files_estate.write(f'[estate]\nname = "Test"\n{procedure}{steps}[[sources]]\nname = "fw"\nprocedure = "p"\n')
    (drop / "fw-1.cfg").write_text("port 1\nend\n")
    collect(files_estate)
    second = EstateFolder(files_estate.path.parent / "second")
    shutil.copytree(files_estate.path, second.path)
    (drop / "fw-2.cfg").write_text("port 2\nend\n")
    assert second.run("collect").code == 5
    assert second.run("serve", "--once").code == 5
    assert (drop / "fw-2.cfg").exists(), "it is the first one's"
    collect(files_estate)
    assert len(files_estate.run("versions", "fw", "--json").rows) == 2
    told = second.run("store", "--copied").out
    assert "these remove files or mails that they collect, so two estates would get half each: fw" in told


_TWIN = """
[[sources]]
name = "u"
address = "localhost"
port = {port}
procedure = "capstan"
credentials = "r"
host_key = "{key}"
{more}
"""


@pytest.mark.parametrize(("more", "shown"), [("", "suspect"), ('identity = "shared"', "new")])
def test_a_new_source_that_shows_the_host_key_of_another_is_suspect(
    router_estate: Callable[..., EstateFolder], router: Capstan, more: str, shown: str
) -> None:
    estate = router_estate()
    collect(estate)
    router.config = lambda: ROUTER_CONFIG.replace("berth", "quay")
    estate = router_estate(more=_TWIN.format(port=router.port, key=router.fingerprint, more=more))
    estate.run("collect", "u")
    outcome, note = _outcomes(estate)["u"]
    assert outcome == shown, note
    doubt = 'it shows the host key of t (127.0.0.1); if that is right, set identity = "shared"'
    assert (doubt in note) is (shown == "suspect")
    if shown == "suspect":
        assert estate.run("vouch", "u@1").code == 0
        router.config = lambda: ROUTER_CONFIG.replace("berth", "pier")
        estate.run("collect", "u")
        assert _outcomes(estate)["u"][0] == "changed", "a person has looked at it"


def test_a_vouch_can_be_withdrawn_and_marks_are_listed(two: EstateFolder) -> None:
    (two.path / "one.cfg").write_text(_config("edge-nine", 2))
    two.run("collect")
    assert two.run("vouch", "one@1", "--withdraw").code == 2, "nobody vouched for it"
    assert two.run("vouch", "one@2").code == 0
    assert two.run("hold", "two@1", "--because", "as built").code == 0
    assert two.run("vouch").out.splitlines()[0] == "1 vouched version"
    assert "one@2" in two.run("vouch").out
    assert "as built" in two.run("hold").out
    done = two.run("vouch", "one@2", "--withdraw")
    assert (done.code, "one@2 is suspect again; @1 is the last good version" in done.out) == (0, True)
    assert two.run("vouch", "--json").rows == []
    two.run("collect")
    assert _outcomes(two)["one"][0] == "suspect", "it is compared with the one before again"


def test_another_name_in_the_prompt_is_suspect(router_estate: Callable[..., EstateFolder], router: Capstan) -> None:
    estate = router_estate()
    for _ in range(3):
        collect(estate)
    router.name = "edge-9"
    collect(estate)
    assert _outcomes(estate)["t"][0] == "unchanged", "to the byte what it was: the export proves itself"
    for _ in range(3):
        collect(estate)
    router.name = "edge-7"
    router.config = lambda: ROUTER_CONFIG.replace("berth", "quay")
    estate.run("collect")
    outcome, note = _outcomes(estate)["t"]
    assert (outcome, "its prompt says edge-7, and was edge-9" in note) == ("suspect", True), note
    assert estate.run("vouch", "t@2").code == 0
    router.config = lambda: ROUTER_CONFIG
    collect(estate)
    assert _outcomes(estate)["t"][0] == "changed"


def test_a_prompt_that_changes_always_names_nobody(router_estate: Callable[..., EstateFolder], router: Capstan) -> None:
    estate = router_estate()
    for number in range(5):
        router.name = f"at-{number}"
        router.config = lambda number=number: ROUTER_CONFIG.replace("berth", f"quay{number}")  # type: ignore[misc]
        collect(estate)
    assert _outcomes(estate)["t"][0] == "changed"


def test_identity_means_nothing_where_no_key_is_shown(two: EstateFolder) -> None:
    two.write(_TWO.replace('name = "two"', 'name = "two"\nidentity = "shared"'))
    result = two.run("sources")
    assert (result.code, "identity" in result.err, "has no effect over local" in result.err) == (4, True, True)


def test_a_damaged_record_of_who_answered_is_as_good_as_none(
    router_estate: Callable[..., EstateFolder], router: Capstan
) -> None:
    estate = router_estate()
    collect(estate)
    store = estate.store()
    store.remember("t", IDENTITY, "{damaged")
    store.close()
    router.config = lambda: ROUTER_CONFIG.replace("berth", "quay")
    collect(estate)
    assert _outcomes(estate)["t"][0] == "changed"
    assert "SHA256:" in (estate.store().recall("t", IDENTITY) or "")
