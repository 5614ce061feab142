"""Exports that arrive by themselves: a drop folder, a Maildir, and a real IMAP server."""

import errno
import gzip
import hashlib
import json
import mailbox
import os
import shutil
from collections.abc import Iterator
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from email.message import EmailMessage
from email.utils import format_datetime
from pathlib import Path
from typing import Any, cast

import pytest
from hypothesis import given
from hypothesis import strategies as st

from historon.collect.transports.drop_folder import settle
from historon.collect.transports.waiting import deliveries
from historon.standins.oilskin import Oilskin, OilskinFault
from tests.conftest import PASSWORD, EstateFolder, Result, collect, describe_estate, parts_of
from tests.imap import ImapServer, imap_server
from tests.peers import PEERS

_DOORS = "door,state\ngangway,closed\nbridge,locked\nend\n"
_AT = datetime(2026, 6, 14, 3, 0, tzinfo=UTC)


def _drop(
    estate: EstateFolder, complete: str = "marker:{file}.done", then: str = "keep", step: str = "", procedure: str = ""
) -> EstateFolder:
    (estate.path / "drop").mkdir(exist_ok=True)
    steps = f'{{ pull = "{{name}}-*.csv", as = "doors.csv", complete = "{complete}" {step} }}'
    return describe_estate(
        estate, over="drop-folder", steps=steps, procedure=f'folder = "drop"\nthen = "{then}"\n{procedure}'
    )


@pytest.fixture
def controller(estate: EstateFolder) -> Oilskin:
    return Oilskin("s", estate.path / "drop", lambda: _DOORS)


def test_what_is_complete_is_taken_once(estate: EstateFolder, controller: Oilskin) -> None:
    _drop(estate)
    result = collect(estate)
    assert (result.code, "no file s-*.csv" in result.out) == (0, True)
    assert "skipped" in result.said
    controller.push(_AT)
    assert "new" in collect(estate).said
    assert parts_of(estate) == {"doors.csv": _DOORS.encode()}
    result = collect(estate)
    assert "no new file since s-20260614-030000.csv" in result.out
    assert "skipped" in result.said
    controller.push(_AT + timedelta(days=1))
    result = collect(estate)
    assert "unchanged" in result.out, "the same again is news: the device still pushes"


def _names(estate: EstateFolder) -> list[bytes]:
    """What each version of the source holds, the oldest first."""
    store = estate.store()
    found = [store.read(part) for one in store.versions("s") for part in store.parts("s", one.number)]
    store.close()
    return found


def test_an_upload_that_is_still_arriving_is_skipped_and_lets_no_later_one_pass(estate: EstateFolder) -> None:
    _drop(estate, then="remove")
    half = estate.path / "drop" / "s-1.csv"
    half.write_text(_DOORS[:20])
    result = collect(estate)
    assert result.code == 0
    assert "skipped    s-1.csv is still arriving (its last byte came " in result.out
    later = estate.path / "drop" / "s-2.csv"
    later.write_text("second\n")
    later.with_name("s-2.csv.done").write_text("")
    assert "s-1.csv is still arriving" in collect(estate).out
    half.write_text("first\n")
    half.with_name("s-1.csv.done").write_text("")
    os.utime(half, (half.stat().st_mtime, later.stat().st_mtime - 1))
    result = collect(estate)
    assert _names(estate) == [b"first\n", b"second\n"], result.said


def test_an_upload_that_stands_still_for_long_is_a_failure_until_the_next_one_is_whole(
    estate: EstateFolder, controller: Oilskin
) -> None:
    _drop(estate)
    controller.fault = OilskinFault.STALLS
    controller.push(_AT)
    result = collect(estate)
    assert result.code == 3
    assert "s-20260614-030000.csv is incomplete and has not grown for " in result.err
    controller.fault = None
    controller.push(_AT + timedelta(days=1))
    assert "s-20260614-030000.csv is incomplete and was not collected" in collect(estate).out
    result = collect(estate)
    assert result.code == 0
    assert "no new file since s-20260615-030000.csv" in result.out


@pytest.mark.parametrize("then", ["move", "remove"])
def test_all_that_wait_are_taken_in_one_round_the_oldest_first(
    estate: EstateFolder, controller: Oilskin, then: str
) -> None:
    _drop(estate, then=then)
    for day, text in enumerate(("one\n", "two\n", "three\n")):
        controller._doors = lambda text=text: text  # type: ignore[misc]
        controller.push(_AT + timedelta(days=day))
    result = collect(estate)
    assert result.code == 0, result.said
    assert _names(estate) == [b"one\n", b"two\n", b"three\n"]
    versions = estate.run("versions", "s", "--json").rows
    assert [row["at"][:10] for row in versions] == ["2026-06-16", "2026-06-15", "2026-06-14"], "when each came"
    assert parts_of(estate) == {"doors.csv": b"three\n"}
    left = sorted(path.name for path in (estate.path / "drop").iterdir())
    assert left == (["taken"] if then == "move" else [])
    assert "no file" in collect(estate).out


def test_only_the_newest_is_taken_where_the_procedure_says_so(estate: EstateFolder, controller: Oilskin) -> None:
    _drop(estate, then="remove", procedure='take = "newest"')
    for day in range(3):
        controller.push(_AT + timedelta(days=day))
    assert "2 older files moved away without being collected" in collect(estate).out
    assert len(_names(estate)) == 1
    assert not list((estate.path / "drop").iterdir())


def test_what_stays_in_the_folder_is_taken_once_and_in_its_order(estate: EstateFolder, controller: Oilskin) -> None:
    _drop(estate)
    controller.push(_AT)
    controller.push(_AT + timedelta(days=1))
    assert "1 older file left in the drop folder" in collect(estate).out, "at first sight the newest alone"
    controller._doors = lambda: "two\n"
    controller.push(_AT + timedelta(days=2))
    controller._doors = lambda: "three\n"
    controller.push(_AT + timedelta(days=3))
    collect(estate)
    assert _names(estate) == [_DOORS.encode(), b"two\n", b"three\n"]
    assert "no new file" in collect(estate).out


def test_a_marker_that_was_left_vouches_for_nothing(estate: EstateFolder) -> None:
    _drop(estate)
    file = estate.path / "drop" / "s-1.csv"
    marker = file.with_name("s-1.csv.done")
    marker.write_text("")
    os.utime(marker, (1, 1))
    file.write_text(_DOORS[:20])
    assert "marker s-1.csv.done is missing or older than the file" in collect(estate).out
    marker.unlink()
    os.mkfifo(marker)
    assert "is not a regular file" in collect(estate).out, "it is not waited for"
    marker.unlink()
    marker.symlink_to("/dev/zero")
    assert "skipped" in collect(estate).out


def test_what_is_pushed_again_meanwhile_is_not_put_away(estate: EstateFolder) -> None:
    """The removal is of the file that was taken, not of its name."""
    _drop(estate, "renamed", then="remove")
    file = estate.path / "drop" / "s-1.csv"
    file.write_text("one\n")
    target = json.dumps(
        {
            "folder": str(file.parent),
            "then": "remove",
            "move_to": "taken",
            "files": [
                {"name": file.name, "size": 4, "changed_ns": file.stat().st_mtime_ns, "inode": file.stat().st_ino}
            ],
        }
    )
    other = file.with_name("new")
    other.write_text("two\n")
    other.replace(file)
    settle(None, target)  # type: ignore[arg-type]
    assert file.read_text() == "two\n"
    assert "new" in collect(estate).said
    assert _names(estate) == [b"two\n"]


def test_a_removal_that_is_owed_is_made_up_for(estate: EstateFolder) -> None:
    """The version is on disk, and Historon died before it removed the original."""
    _drop(estate, "renamed", then="remove")
    file = estate.path / "drop" / "s-1.csv"
    file.write_text("one\n")
    collect(estate)
    store = estate.store()
    file.write_text("one\n")
    found = file.stat()
    owed = {
        "folder": str(file.parent),
        "then": "remove",
        "move_to": "taken",
        "files": [{"name": file.name, "size": 4, "changed_ns": found.st_mtime_ns, "inode": found.st_ino}],
    }
    store.remember("s", "owed", json.dumps(owed))
    store.close()
    collect(estate)
    assert not file.exists()
    assert len(_names(estate)) == 1, "it is not taken again"


def test_a_removal_that_is_owed_is_made_up_for_by_a_round_of_other_sources(estate: EstateFolder) -> None:
    _drop(estate, "renamed", then="remove")
    text = (estate.path / "historon.toml").read_text()
    estate.write(
        text
        + '[procedures.o]\nover = "local"\nsteps = [{ pull = "o" }]\n[[sources]]\nname = "other"\nprocedure = "o"\n'
    )
    (estate.path / "o").write_text("o\n")
    file = estate.path / "drop" / "s-1.csv"
    file.write_text("one\n")
    found = file.stat()
    owed = {
        "folder": str(file.parent),
        "then": "remove",
        "move_to": "taken",
        "files": [{"name": file.name, "size": 4, "changed_ns": found.st_mtime_ns, "inode": found.st_ino}],
    }
    store = estate.store()
    store.remember("s", "owed", json.dumps(owed))
    store.close()
    assert collect(estate, "other").code == 0
    assert not file.exists()
    store = estate.store()
    assert store.recall("s", "owed") is None
    store.close()


@pytest.mark.parametrize("then", ["move", "remove"])
def test_the_original_is_moved_or_removed_once_it_is_on_disk(
    estate: EstateFolder, controller: Oilskin, then: str
) -> None:
    _drop(estate, then=then)
    file = controller.push(_AT)
    assert file is not None
    assert estate.run("rehearse", "s", PW="x", UP="x").code == 0
    assert file.exists(), "a rehearsal touches nothing"
    assert collect(estate).code == 0
    assert not file.exists()
    assert (file.parent / "taken" / file.name).exists() == (then == "move")


def test_a_suspect_one_stays_where_it_is(estate: EstateFolder, controller: Oilskin) -> None:
    _drop(estate, then="remove", step=', min_size = "1kB"')
    file = controller.push(_AT)
    assert file is not None
    assert "suspect" in collect(estate).said
    assert file.exists()


@pytest.mark.parametrize(
    ("complete", "beside", "content", "whole"),
    [
        ("ends:end", None, _DOORS, True),
        ("ends:end", None, _DOORS[:20], False),
        ("size:{file}.size", "58", "x" * 58, True),
        ("size:{file}.size", "59", "x" * 58, False),
        ("checksum:{file}.md5", "d41d8cd98f00b204e9800998ecf8427e", "", True),
        ("checksum:{file}.md5", "d41d8cd98f00b204e9800998ecf8427e", "x", False),
        ("format:json", None, '{"a": [1]}', True),
        ("format:json", None, '{"a": [1', False),
        ("format:xml", None, "<a/>", True),
        ("format:xml", None, "<a>", False),
        ("renamed", None, "x", True),
    ],
)
def test_signs_of_completeness(
    estate: EstateFolder, complete: str, beside: str | None, content: str, whole: bool
) -> None:
    _drop(estate, complete)
    (estate.path / "drop" / "s-1.csv").write_text(content)
    if beside is not None:
        (estate.path / "drop" / ("s-1.csv." + complete.rpartition(".")[2])).write_text(beside)
    result = collect(estate)
    assert ("is still arriving" in result.said) != whole, result.said


@pytest.mark.parametrize("cut", [0, 1, 9, 500])
def test_a_gzip_file_is_whole_only_to_its_end(estate: EstateFolder, cut: int) -> None:
    _drop(estate, "format:gzip")
    packed = gzip.compress(os.urandom(3000)) + gzip.compress(b"a second member")
    (estate.path / "drop" / "s-1.csv").write_bytes(packed[: len(packed) - cut])
    assert ("is still arriving" in collect(estate).said) == bool(cut)


def test_strangers_are_reported(estate: EstateFolder, controller: Oilskin) -> None:
    _drop(estate)
    controller.push(_AT)
    (estate.path / "drop" / "unknown-9.csv").write_text("x")
    result = collect(estate)
    assert "drop/unknown-9.csv belongs to no source" in result.err
    assert "s-2026" not in "".join(line for line in result.out.splitlines() if "belongs to no source" in line)


def test_wrong_drop_folders(estate: EstateFolder) -> None:
    assert (
        "needs to know when a file is complete"
        in describe_estate(estate, over="drop-folder", steps='{ pull = "x" }', procedure='folder = "d"')
        .run("status")
        .err
    )
    assert "is not a sign of completeness" in _drop(estate, "stands-still:3s").run("status").err
    _drop(estate)
    shutil.rmtree(estate.path / "drop")
    assert "No such file or directory" in collect(estate).err


# Mail


def letter(number: int, attachment: bytes, name: str = "export.cfg", subject: str = "Export of s") -> EmailMessage:
    message = EmailMessage()
    message["From"] = "yard-controller@brackwater.example"
    message["To"] = "exports@brackwater.example"
    message["Subject"] = subject
    message["Date"] = format_datetime(_AT + timedelta(days=number))
    message["Message-ID"] = f"<{number}@brackwater.example>"
    message.set_content("See attachment.")
    message.add_attachment(attachment, maintype="application", subtype="octet-stream", filename=name)
    return message


def _maildir(estate: EstateFolder, then: str = "keep", step: str = "") -> EstateFolder:
    return describe_estate(
        estate,
        over="mailbox",
        steps=f"{{ pull = \"*.cfg\", sender = 'yard-controller@', subject = 'of s$' {step} }}",
        procedure=f'folder = "mail"\nthen = "{then}"',
    )


def test_attachments_of_letters_in_the_order_in_which_they_arrived(estate: EstateFolder) -> None:
    box = mailbox.Maildir(str(estate.path / "mail"))
    _maildir(estate)
    assert "no mail has arrived that matches" in collect(estate).out
    for number, content in ((1, b"older"), (26_000, b"newest")):
        box.add(letter(number, content))
    box.add(letter(3, b"not ours", subject="Export of t"))
    assert "1 older mail not collected" in collect(estate).out
    assert parts_of(estate) == {"export.cfg": b"newest"}, "its date is 2097, which stands in nobody's way"
    assert "no new mail has arrived" in collect(estate).said
    box.add(letter(4, b"hostile", name="../../../etc/evil.cfg"))
    assert "is the device's clock right?" in collect(estate).out
    assert parts_of(estate) == {"evil.cfg": b"hostile"}
    box.add(letter(5, b"x", name="other.txt"))
    assert 'the mail "Export of s" has no attachment *.cfg' in collect(estate).err


def test_a_letter_without_an_export_keeps_no_later_one_waiting(estate: EstateFolder) -> None:
    box = mailbox.Maildir(str(estate.path / "mail"))
    _maildir(estate, "remove")
    box.add(letter(1, b"one"))
    assert collect(estate).code == 0
    for number in (2, 3):
        box.add(letter(number, b"x", name="other.txt"))
    assert collect(estate).code == 3, "the newest has "
    for number, content in ((4, b"four"), (5, b"five")):
        box.add(letter(number, content))
    result = collect(estate)
    assert result.code == 0
    assert parts_of(estate) == {"export.cfg": b"five"}
    assert "(and 1 more)" in estate.run("versions", "s").out
    assert len(mailbox.Maildir(str(estate.path / "mail"))) == 2, "they are left where they are"
    assert "no new mail has arrived" in collect(estate).said


def test_a_letter_is_moved_to_a_folder_of_its_mailbox(estate: EstateFolder) -> None:
    box = mailbox.Maildir(str(estate.path / "mail"))
    box.add(letter(1, b"one"))
    _maildir(estate, "move")
    assert collect(estate).code == 0
    assert len(mailbox.Maildir(str(estate.path / "mail"))) == 0
    (moved,) = mailbox.Maildir(str(estate.path / "mail" / ".taken"), create=False)
    assert (moved.get_subdir(), moved.get_flags()) == ("cur", "S")
    text = (estate.path / "historon.toml").read_text()
    estate.write(text.replace('then = "move"', 'then = "move"\nmove_to = "Done.Routers"'))
    box.add(letter(2, b"two"))
    assert collect(estate).code == 0
    assert len(mailbox.Maildir(str(estate.path / "mail" / ".Done.Routers"), create=False)) == 1
    estate.write(text.replace('then = "move"', 'then = "move"\nmove_to = "../elsewhere"'))
    assert "move_to is a folder of the Maildir" in estate.run("collect").err


@pytest.mark.parametrize("then", ["move", "remove"])
def test_no_letter_is_put_away_through_a_link(estate: EstateFolder, tmp_path: Path, then: str) -> None:
    """Whoever delivers may write to the mailbox, also a link in the place of one of its folders."""
    box = mailbox.Maildir(str(estate.path / "mail"))
    _maildir(estate, then)
    key = box.add(letter(1, b"one"))
    outside = tmp_path / "outside"
    outside.mkdir()
    (outside / f"{key}:2,").write_text("of somebody else")
    (estate.path / "mail" / "cur").rmdir()
    (estate.path / "mail" / "cur").symlink_to(outside)
    result = collect(estate)
    assert "is a link; nothing was written through it" in result.said
    assert [file.name for file in outside.iterdir()] == [f"{key}:2,"]


def test_a_letter_is_removed_once_its_export_is_on_disk(estate: EstateFolder) -> None:
    box = mailbox.Maildir(str(estate.path / "mail"))
    box.add(letter(1, b"one"))
    assert collect(_maildir(estate, "remove")).code == 0
    assert len(mailbox.Maildir(str(estate.path / "mail"))) == 0
    assert (
        "is not a Maildir"
        in collect(
            describe_estate(estate, over="mailbox", steps='{ pull = "*" }', procedure='folder = "elsewhere"')
        ).err
    )


def test_a_reused_message_id_is_an_export_of_its_own(estate: EstateFolder) -> None:
    box = mailbox.Maildir(str(estate.path / "mail"))
    _maildir(estate, "remove")
    for content in (b"one", b"two"):
        box.add(letter(1, content))
    assert collect(estate).code == 0
    assert [parts_of(estate, number=number) for number in (1, 2)] == [{"export.cfg": b"one"}, {"export.cfg": b"two"}]


def test_letters_of_one_second_come_in_the_order_of_their_microseconds(estate: EstateFolder) -> None:
    _maildir(estate, "remove")
    mailbox.Maildir(str(estate.path / "mail"))
    for name, content in (("M99999P7Q1", b"first"), ("M100000P7Q2", b"second"), ("M100000P7Q10", b"third")):
        (estate.path / "mail/new" / f"1780000000.{name}.yard").write_bytes(letter(1, content).as_bytes())
    assert collect(estate).code == 0
    contents = [parts_of(estate, number=number)["export.cfg"] for number in (1, 2, 3)]
    assert contents == [b"first", b"second", b"third"]


_BROKEN = [
    b"From: yard-controller@x\nSubject: of s\nContent-Type: multipart/mixed; boundary=\n\nx\n",
    b"From: yard-controller@x\nSubject: of s\nContent-Type: text/plain; charset=nonsense-9; name*0*=utf-8''%ff%fe.cfg\n\n\xff\n",
    b"From: yard-controller@x\nSubject: =?utf-8?b?//8=?= of s\nContent-Disposition: attachment; filename==?x?=?=.cfg\n\nx\n",
    b"From: yard-controller@x\nSubject: of s\nDate: 99 Foo 99999 99:99\nContent-Transfer-Encoding: base64\nContent-Disposition: attachment; filename=a.cfg\n\n!!!\n",
    b"\xff\xfe: \0\nFrom: yard-controller@x\nSubject: of s\n\n",
    b"From: yard-controller@x <a@[\nSubject: of s\n" + b"Content-Type: multipart/mixed; boundary=a\n\n--a\n" * 300,
]


@pytest.mark.parametrize("letter", _BROKEN)
def test_a_broken_letter_is_the_fault_of_the_letter(estate: EstateFolder, letter: bytes) -> None:
    box = mailbox.Maildir(str(estate.path / "mail"))
    _maildir(estate, "remove")
    box.add(letter)
    result = collect(estate)  # asserts that there is neither a traceback nor a defect
    assert result.code in (0, 3)
    assert "defect" not in result.said


def test_a_letter_that_is_too_large_is_not_read(estate: EstateFolder) -> None:
    box = mailbox.Maildir(str(estate.path / "mail"))
    _maildir(estate, step=', max_size = "100kB"')
    box.add(letter(1, b"small"))
    box.add(letter(2, bytes(3_000_000)))
    result = collect(estate)
    assert result.code == 0
    assert "1 mail of more than 1.2 MB left unread (max_size sets the limit)" in result.out
    assert parts_of(estate) == {"export.cfg": b"small"}


@pytest.fixture
def imap() -> Iterator[ImapServer]:
    if not PEERS["a mail server, as root"]:
        pytest.skip("this machine does not have a mail server, as root")
    with imap_server(PASSWORD) as server:
        yield server


def _over_imap(estate: EstateFolder, imap: ImapServer, then: str) -> Result:
    describe_estate(
        estate,
        over="mailbox",
        steps="{ pull = \"*.cfg\", subject = 'of s$' }",
        procedure=f'then = "{then}"' + ('\nmove_to = "Taken"' if then == "move" else ""),
        source=f'address = "127.0.0.1"\nport = {imap.port}\ncredentials = "c"\ncertificate = "{imap.fingerprint}"',
    )
    return collect(estate)


def test_a_real_imap_server(estate: EstateFolder, imap: ImapServer) -> None:
    assert "no mail has arrived" in _over_imap(estate, imap, "keep").out
    imap.deliver(letter(1, b"one"), "1.one")
    imap.deliver(letter(2, b"two"), "2.two")
    result = _over_imap(estate, imap, "move")
    assert result.code == 0, result.out
    assert _names(estate) == [b"one", b"two"], "all that wait, the oldest first"
    assert (imap.maildir / ".Taken").is_dir()
    assert "no mail has arrived" in _over_imap(estate, imap, "keep").out, "both were moved"
    result = collect(estate, PW="mutiny-1789")
    assert "refused the log-in" in result.err
    assert "mutiny-1789" not in result.said


def _owed(file: Path, then: str) -> tuple[str, Path]:
    """What is owed for a file that was taken, and what it is called while it is put away."""
    state = file.stat()
    told = {"name": file.name, "size": state.st_size, "changed_ns": state.st_mtime_ns, "inode": state.st_ino}
    owed = {"folder": str(file.parent), "files": [told], "then": then, "move_to": "taken"}
    identity = json.dumps([*told.values()])
    return json.dumps(owed), file.parent / f".historon-{hashlib.sha256(identity.encode()).hexdigest()[:16]}"


@pytest.mark.parametrize("named_anew", [False, True])
def test_what_is_not_the_file_that_was_taken_is_given_back(tmp_path: Path, named_anew: bool) -> None:
    file = tmp_path / "wall.tgz"
    file.write_text("taken")
    owed, claimed = _owed(file, "remove")
    file.unlink()
    claimed.write_text("pushed meanwhile, and claimed by one that was killed")
    if named_anew:
        file.write_text("pushed once more")
    settle(cast(Any, None), owed)
    contents = {one.read_text() for one in tmp_path.iterdir() if one.is_file()}
    assert "pushed meanwhile, and claimed by one that was killed" in contents
    assert ("pushed once more" in contents) == named_anew
    assert file.exists()
    assert not claimed.exists()


def test_it_is_moved_over_nothing_where_there_are_no_links(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    def no_links(*_: object, **__: object) -> None:
        raise OSError(errno.EPERM, "not permitted")

    monkeypatch.setattr(os, "link", no_links)
    (tmp_path / "taken").mkdir()
    (tmp_path / "taken" / "wall.tgz").write_text("of the night before")
    file = tmp_path / "wall.tgz"
    file.write_text("of tonight")
    settle(cast(Any, None), _owed(file, "move")[0])
    assert (tmp_path / "taken" / "wall.tgz").read_text() == "of the night before"
    assert (tmp_path / "taken" / "wall.tgz.1").read_text() == "of tonight"
    assert [one.name for one in tmp_path.iterdir()] == ["taken"]


# ---- parts of one night ----------------------------------------------------------------------------------------------


@dataclass(frozen=True)
class _Came:
    """Something that arrived, of a night."""

    night: int
    identity: str
    arrived: datetime
    key: str | None = None


@given(
    nights=st.lists(st.sets(st.sampled_from(["a", "b", "c"]), min_size=1), min_size=1, max_size=8),
    minutes=st.lists(st.integers(0, 50), min_size=24, max_size=24),
    named=st.booleans(),
)
def test_what_comes_together_is_of_one_night(nights: list[set[str]], minutes: list[int], named: bool) -> None:
    late = iter(minutes)
    waiting: dict[str, list[_Came]] = {"a": [], "b": [], "c": []}
    for night, pulls in enumerate(nights):
        for pull in sorted(pulls):
            at = _AT + timedelta(days=night, minutes=next(late))
            waiting[pull].append(_Came(night, f"{pull}{night}", at, str(night) if named else None))
    found = deliveries(waiting, timedelta(hours=1))
    assert [{one.night for one in some.values()} for some in found] == [{night} for night in range(len(nights))]
    assert [set(some) for some in found] == nights


def _pair(estate: EstateFolder, night: int, *kinds: str, ago: timedelta = timedelta(hours=3)) -> None:
    """The files of a night, the newer the night; the binary holds which night it is of."""
    at = (datetime.now(UTC) - ago + timedelta(minutes=night)).timestamp()
    for kind in kinds:
        file = estate.path / "drop" / f"s-2026120{night}.{kind}"
        file.parent.mkdir(exist_ok=True)
        file.write_text(f"night {night}\nhostname s\nend\n")
        os.utime(file, (at, at))


def _nights(estate: EstateFolder, good: bool = True) -> list[set[str]]:
    """Of each version, the nights that its parts are of."""
    store = estate.store()
    found = [
        {store.read(part).decode().splitlines()[0] for part in store.parts("s", one.number)}
        for one in store.versions("s")
        if one.good == good
    ]
    store.close()
    return found


def _two_files(estate: EstateFolder, procedure: str = 'then = "move"', steps: str = "") -> EstateFolder:
    taken = [
        f'{{ pull = "{{name}}-*.{kind}", as = "s.{kind}", complete = "ends:end" {steps} }}' for kind in ("cfg", "bin")
    ]
    return describe_estate(
        estate, over="drop-folder", steps=", ".join(taken), procedure=f'folder = "drop"\n{procedure}'
    )


@pytest.mark.parametrize("then", ["keep", "move"])
def test_files_of_different_nights_are_never_one_version(estate: EstateFolder, then: str) -> None:
    _two_files(estate, f'then = "{then}"')
    _pair(estate, 1, "cfg", "bin")
    assert collect(estate).code == 0
    _pair(estate, 2, "cfg")
    result = collect(estate)
    assert result.code == 3
    assert "no file s-*.bin arrived within within 1h of s-20261202.cfg" in result.err
    for night in (3, 4):
        _pair(estate, night, "cfg", "bin")
    assert collect(estate).code == 0
    assert _nights(estate) == [{"night 1"}, {"night 3"}, {"night 4"}]
    assert _nights(estate, good=False) == [{"night 2"}]
    left = {file.name for file in (estate.path / "drop").glob("s-*")}
    assert left == ({"s-20261202.cfg"} if then == "move" else left), "both files of a version were put away"


def test_what_belongs_to_a_file_is_waited_for(estate: EstateFolder) -> None:
    _two_files(estate)
    _pair(estate, 1, "cfg", ago=timedelta(minutes=5))
    result = collect(estate)
    assert (result.code, "s-20261201.cfg has arrived, but no file s-*.bin yet" in result.out) == (0, True)
    _pair(estate, 1, "bin", ago=timedelta(minutes=5))
    assert "new" in collect(estate).said
    _pair(estate, 2, "bin", ago=timedelta(minutes=3))
    half = estate.path / "drop" / "s-20261202.cfg"
    half.write_text("night 2\nhost")
    assert "s-20261202.cfg is still arriving" in collect(estate).out
    _two_files(estate, 'together = "1s"\nthen = "move"')
    half.unlink()
    assert "no file s-*.cfg arrived within within 1s of s-20261202.bin" in collect(estate).err


def test_a_file_that_may_be_missing_is_only_remarked(estate: EstateFolder) -> None:
    _two_files(estate)
    text = (estate.path / "historon.toml").read_text()
    estate.write(text.replace('as = "s.bin"', 'as = "s.bin", optional = true'))
    _pair(estate, 1, "cfg", "bin")
    collect(estate)
    _pair(estate, 2, "cfg")
    assert "s.bin was left out: no file " in collect(estate).out
    _pair(estate, 3, "cfg", "bin")
    collect(estate)
    assert _nights(estate)[-1] == {"night 3"}


@pytest.mark.parametrize("then", ["keep", "move"])
def test_attachments_of_different_mails_are_never_one_version(estate: EstateFolder, then: str) -> None:
    box = mailbox.Maildir(str(estate.path / "mail"))
    describe_estate(
        estate,
        over="mailbox",
        steps='{ pull = "*.cfg" }, { pull = "*.bin" }',
        procedure=f'folder = "mail"\nthen = "{then}"',
    )
    for night, kinds in enumerate((("cfg", "bin"), ("cfg",), ("cfg", "bin"), ("bin", "cfg"))):
        message = letter(night, f"night {night}\n".encode(), name=f"s.{kinds[0]}")
        for kind in kinds[1:]:
            more = f"night {night}\n".encode()
            message.add_attachment(more, maintype="application", subtype="octet-stream", filename=f"s.{kind}")
        box.add(message)
        said = collect(estate).said
        if len(kinds) == 1:
            assert 'no attachment *.bin came with the mail "Export of s"' in said
    assert _nights(estate) == [{"night 0"}, {"night 2"}, {"night 3"}]
    assert _nights(estate, good=False) == [{"night 1"}]
    assert len(mailbox.Maildir(str(estate.path / "mail"))) == (1 if then == "move" else 4)


def test_mails_of_different_senders_are_taken_together(estate: EstateFolder) -> None:
    box = mailbox.Maildir(str(estate.path / "mail"))
    describe_estate(
        estate,
        over="mailbox",
        steps="{ pull = '*.cfg', subject = '^Text' }, { pull = '*.bin', subject = '^Archive' }",
        procedure='folder = "mail"',
    )
    box.add(letter(0, b"night 0\n", name="s.cfg", subject="Text"))
    assert 'the mail "Text" has arrived, but no attachment *.bin yet' in collect(estate).out
    box.add(letter(0, b"night 0\n", name="s.bin", subject="Archive"))
    assert "new" in collect(estate).said
    assert _nights(estate) == [{"night 0"}]
