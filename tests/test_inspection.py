"""Is what came an export, and a whole one? Every part is looked into, whichever step brought it."""

import bz2
import gzip
import io
import json
import lzma
import os
import sqlite3
import tarfile
import zipfile
from collections.abc import Callable
from pathlib import Path

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from historon.inspection import look_into
from tests.conftest import EstateFolder, collect, describe_estate, sampled


def _tar(count: int = 4) -> bytes:
    out = io.BytesIO()
    with tarfile.open(fileobj=out, mode="w") as archive:
        for number in range(count):
            info = tarfile.TarInfo(f"etc/{number}.conf")
            content = f"interface {number}\n".encode() * 40
            info.size = len(content)
            archive.addfile(info, io.BytesIO(content))
    return out.getvalue()


def _zip(count: int = 4) -> bytes:
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as archive:
        for number in range(count):
            archive.writestr(f"{number}.conf", os.urandom(300))
    return out.getvalue()


def _database() -> bytes:
    database = sqlite3.connect(":memory:")
    database.execute("CREATE TABLE t (a)")
    database.executemany("INSERT INTO t VALUES (?)", [(os.urandom(200),) for _ in range(60)])
    database.commit()
    content = database.serialize()
    database.close()
    return content


def _with_log(database: bytes) -> bytes:
    return database[:18] + b"\2\2" + database[20:]


WHOLE: dict[str, Callable[[], bytes]] = {
    "a.tar": _tar,
    "a.tgz": lambda: gzip.compress(_tar()),
    "a.txz": lambda: lzma.compress(_tar()),
    "a.zip": _zip,
    "a.gz": lambda: gzip.compress(b"text\n" * 90),
    "a.bz2": lambda: bz2.compress(os.urandom(900)),
    "a.xz": lambda: lzma.compress(os.urandom(900)),
    "a.db": _database,
    "with-a-log.db": lambda: _with_log(_database()),  # of one that has a write-ahead log
    "a.xml": lambda: b"<?xml version='1.0'?><rules>" + b"<rule action='allow'/>" * 20 + b"</rules>",
    "a.json": lambda: json.dumps({"rules": [{"from": "any", "to": [1, 2]}] * 9}).encode(),
}


@pytest.mark.parametrize("name", WHOLE)
def test_a_cut_at_any_byte_is_seen_and_a_whole_one_is_whole(name: str) -> None:
    content = WHOLE[name]()
    assert look_into(name, io.BytesIO(content)).doubt == ""
    # What lies behind a tar's closing block, and in a database's first bytes, is no content.
    end = 4 * 1024 + 512 if name == "a.tar" else len(content)
    for cut in range(16, end, max(1, end // 50)):
        assert look_into(name, io.BytesIO(content[:cut])).doubt, cut


@given(
    st.recursive(
        st.none() | st.integers() | st.text(), lambda inner: st.lists(inner) | st.dictionaries(st.text(), inner)
    )
)
@settings(max_examples=40)
def test_what_is_json_is_whole_by_its_brackets_too(data: object) -> None:
    """The check of large ones, which holds no value in memory, agrees with the whole one where there are brackets."""
    from historon.inspection import formats

    text = json.dumps([data]).encode()
    formats._balanced(io.BytesIO(text))
    for cut in range(1, len(text)):
        with pytest.raises(formats._CutError):
            formats._balanced(io.BytesIO(text[:cut]))


def _pulling(
    estate: EstateFolder, name: str, first: bytes, step: str = "", procedure: str = "", source: str = ""
) -> Path:
    """An estate that pulls a file of this name and content, collected once."""
    (estate.path / "data").mkdir(exist_ok=True)
    file = estate.path / "data" / name
    file.write_bytes(first)
    steps = f'{{ pull = "data/{name}" {step} }}'
    describe_estate(estate, over="local", steps=steps, procedure=procedure, source=source, more="", head="")
    result = collect(estate)
    assert "new" in result.out, result.said
    return file


TEXT = b"".join(b"interface port-%d\n  mtu 1500\n" % number for number in range(20)) + b"end\n"


@pytest.mark.parametrize(
    ("name", "whole", "broken", "said"),
    sampled(
        7,
        [
            ("a.cfg", TEXT, b"", "a.cfg is empty"),
            ("a.cfg", TEXT, b"% Unknown command\n", 'a.cfg holds an error: "% Unknown command"'),
            ("a.cfg", TEXT, TEXT[:200], "a.cfg has 14 lines, and had 41"),
            ("a.cfg", TEXT, b"<!DOCTYPE html><title>Log in</title>" + TEXT, 'a.cfg is a web page ("Log in")'),
            *((name, make(), make()[: len(make()) // 3], f"{name} is not a whole ") for name, make in WHOLE.items()),
            ("a.xml", WHOLE["a.xml"](), b"<error><message>no</message></error>", "a.xml is an error document: <error>"),
            ("a.xml", WHOLE["a.xml"](), b'<response status="error"/>', 'a.xml is an error document: status="error"'),
            ("a.json", WHOLE["a.json"](), b'{"error": "denied"}', 'a.json is an error document: "denied"'),
            ("a.tgz", gzip.compress(_tar(9)), gzip.compress(_tar(4)), "a.tgz has 4 members, and had 9"),
            ("a.tgz", gzip.compress(_tar()), gzip.compress(bytes(10240)), "a.tgz has 0 members, and had 4"),
            ("export", gzip.compress(_tar()), TEXT, "export is text, and was gzip before"),
        ],
    ),
    ids=range(21),
)
def test_what_is_pulled_is_inspected_like_what_is_kept(
    estate: EstateFolder, name: str, whole: bytes, broken: bytes, said: str
) -> None:
    file = _pulling(estate, name, whole)
    file.write_bytes(broken)
    result = collect(estate)
    assert (result.code, "suspect" in result.said) == (3, True), result.said
    assert said in result.err
    assert estate.run("show", "s", "--reveal").out.encode()[:20] == whole.decode("utf-8", "replace").encode()[:20]


def test_what_it_is_can_be_said_or_left_open(estate: EstateFolder) -> None:
    file = _pulling(estate, "a.json", b"{ not json at all }\n", ', is = "anything"')
    file.write_bytes(b"")
    assert "changed" in collect(estate).said
    for is_, content, said in (
        ("xml", b"[interfaces]\n", "is not a whole XML document: syntax error"),
        ("zip", TEXT, 'is not a zip file: it begins with "interface port-0"'),
        ("text", b"\0\1\2", "it has bytes that no text has"),
        ("json", b'{"a": 1', "is not a whole JSON document"),
    ):
        again = _suspect(estate, content, is_)
        assert said in again, again
    wrong = describe_estate(estate, over="local", steps='{ pull = "x", is = "yaml" }', source="", more="", head="")
    assert '"yaml" is not possible here' in wrong.run("status").err


def _suspect(estate: EstateFolder, content: bytes, is_: str) -> str:
    (estate.path / "data" / "thing").write_bytes(content)
    steps = f'{{ pull = "data/thing", is = "{is_}" }}'
    describe_estate(estate, over="local", steps=steps, source="", more="", head="")
    return collect(estate).said


def test_within_a_folder_single_empty_files_are_normal_and_broken_ones_are_not(files_estate: EstateFolder) -> None:
    data = files_estate.path / "data"
    for number in range(9):
        (data / f"{number}.conf").write_text("x\n" * 99)
    (data / "rules.xml").write_bytes(WHOLE["a.xml"]())
    assert "new" in files_estate.run("collect").out
    (data / "3.conf").write_text("")
    assert "changed" in files_estate.run("collect").out
    (data / "rules.xml").write_bytes(WHOLE["a.xml"]()[:50])
    assert "data/rules.xml is not a whole XML document" in files_estate.run("collect").err
    (data / "rules.xml").write_bytes(WHOLE["a.xml"]())
    for number in range(7):
        (data / f"{number}.conf").unlink()
    assert "data/ has 4 files, and had 11" in files_estate.run("collect").err


@pytest.mark.parametrize(
    ("procedure", "source", "suspect"),
    [
        ("", "", True),
        ('max_shrink = "90%"', "", False),
        ("", 'max_shrink = "100%"', False),
        ('max_shrink = "10%"', "", True),
    ],
)
def test_how_much_may_go_is_a_setting(estate: EstateFolder, procedure: str, source: str, suspect: bool) -> None:
    file = _pulling(estate, "a.cfg", TEXT, procedure=procedure, source=source)
    file.write_bytes(b"".join(TEXT.splitlines(keepends=True)[:13]) + b"end\n")
    assert ("suspect" in collect(estate).said) == suspect


@pytest.mark.parametrize("wrong", ['"half"', '"120%"', "50"])
def test_a_wrong_share_is_refused(estate: EstateFolder, wrong: str) -> None:
    made = describe_estate(
        estate, over="local", steps='{ pull = "x" }', procedure=f"max_shrink = {wrong}", source="", more="", head=""
    )
    assert 'expected a share in per cent, such as "50%"' in made.run("status").err


def test_a_large_part_is_looked_into_to_its_end(estate: EstateFolder) -> None:
    rows = b'{"rows": [' + b'{"port": "x"},' * 1_400_000
    file = _pulling(estate, "a.json", rows + b"{}]}", ', max_size = "1GiB"')
    file.write_bytes(rows)
    assert "a.json is not a whole JSON document: it ends in the middle" in collect(estate).err


def test_a_person_may_vouch_for_a_suspect_version(estate: EstateFolder) -> None:
    file = _pulling(estate, "a.cfg", TEXT, source='max_age = "1d"')
    file.write_bytes(TEXT[:200])
    collect(estate)
    assert estate.run("status").code == 1
    assert estate.run("find", "port-19", "--json").data["headline"] == '"port-19": 1 line in 1 of 1 source'
    done = estate.run("vouch", "s@2")
    assert (done.code, "it is the last good version" in done.out) == (0, True), done.said
    assert estate.run("status").code == 0
    assert "is in none" in estate.run("find", "port-19").out
    assert "port-6" in estate.run("find", "port-6").out, "it can be found as any other"
    assert "unchanged" in collect(estate).out
    file.write_bytes(TEXT[:160])
    assert "changed" in collect(estate).out, "the next one is measured by it"
    for wrong, said in (("s@2", "s@2 is already good"), ("s@9", "no such version"), ("t@1", "there is no source")):
        refused = estate.run("vouch", wrong)
        assert (refused.code, said in refused.err) == (2, True), refused.err


def test_an_older_suspect_that_is_vouched_for_is_not_the_last(estate: EstateFolder) -> None:
    file = _pulling(estate, "a.cfg", TEXT)
    file.write_bytes(TEXT[:200])
    collect(estate)
    file.write_bytes(TEXT + b"! more\n")
    collect(estate)
    assert "is newer and stays the last good version" in estate.run("vouch", "s@2").out
    assert estate.run("show", "s").out.endswith("! more\n")
