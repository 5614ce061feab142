"""The heart of looking: signatures, outlines, families, typical sources, studied noise, requirements."""

import base64
import gzip
import io
import json
import os
import random
import re
import tarfile
import tempfile
import zipfile
from collections.abc import Iterator, Sequence
from datetime import UTC, datetime, timedelta
from itertools import pairwise
from pathlib import Path

import pytest
from hypothesis import example, given, settings
from hypothesis import strategies as st

from historon.compare import Kind, compare_exports, outline_of
from historon.estate import Noise, Pattern, Requirement, same_rules
from historon.insight import (
    Proposal,
    Query,
    Reader,
    Unmet,
    find,
    find_ever,
    may_hold,
    news_of,
    pieces_of_expression,
    pieces_of_text,
    signature,
    study,
    trace,
    typical,
    unmet,
)
from historon.store import Entry, FolderStore, Outcome, Part, State, Version
from historon.versions import Masks
from tests.conftest import EstateFolder, describe_estate, sampled

START = datetime(2026, 1, 1, tzinfo=UTC)
_MASKS = Masks(key=b"k")
_WORDS = st.text(alphabet="abC 1.", min_size=1, max_size=12)
_TEXTS = st.lists(_WORDS, max_size=12).map(lambda lines: "".join(f"{line}\n" for line in lines))


def _stored(folder: Path, name: str, texts: Sequence[bytes], part: str = "p") -> FolderStore:
    """A store with one source and a version for each text."""
    store = FolderStore(folder) if (folder / "ledger.sqlite").exists() else FolderStore.create(folder)
    before: dict[str, bytes] = {}
    for night, text in enumerate(texts):
        at = START + timedelta(days=night)
        number = store.begin_round(at, "test")
        outcome = Outcome.CHANGED if before else Outcome.NEW
        bits = signature(before, {part: text})
        entry = Entry(name, outcome, at, timedelta(), [Part(part, text)], State.GOOD, signature=bits)
        store.record(number, [entry])
        store.end_round(number, at)
        before = {part: text}
    return store


# ---- signatures -------------------------------------------------------------------------------------------------------


def _bits(numbers: bytes) -> bytes:
    made = bytearray(4096)
    for at in range(0, len(numbers), 2):
        place = int.from_bytes(numbers[at : at + 2])
        made[place >> 3] |= 1 << (place & 7)
    return bytes(made)


def test_the_store_keeps_all_numbers_that_ever_were(tmp_path: Path) -> None:
    rng = random.Random(3)
    texts = [b"".join(b"%d %d\n" % (night, rng.randrange(10**9)) for _ in range(9)) for night in range(40)]
    store = _stored(tmp_path / "store", "s", texts)
    kept = store.signature("s")
    assert kept == (1, _bits(b"".join(signature({}, {"p": text}) for text in texts)))
    assert list(store.signatures()) == [("s", *kept)]
    store.close()


@settings(max_examples=200)
@given(_TEXTS, _TEXTS, st.data())
def test_a_signature_never_denies_what_is_there(old: str, new: str, data: st.DataObject) -> None:
    union = _bits(signature({}, {"p": old.encode()}) + signature({"p": old.encode()}, {"p": new.encode()}))
    for text in (old, new):
        for line in text.splitlines():
            start = data.draw(st.integers(0, len(line)))
            end = data.draw(st.integers(start, len(line)))
            assert may_hold(union, pieces_of_text(line[start:end].swapcase()))


def test_a_signature_rules_out_what_was_never_there() -> None:
    bits = _bits(signature({}, {"p": b"interface port-1\n  mtu 1500\n"}))
    assert may_hold(bits, pieces_of_text("PORT-1"))
    assert not may_hold(bits, pieces_of_text("telnet"))
    assert not may_hold(bits, pieces_of_text("port-1\n  mtu"[:6] + "xyz"))


@pytest.mark.parametrize(
    ("expression", "text"),
    [
        (r"^permit (tcp|udp) any$", "permit udp any"),
        (r"por?t", "pot 1"),
        (r"ab+c*d", "abbbd"),
        (r"mtu \d{4}", "mtu 1500"),
        (r"10\.20\.0\.\d+", "10.20.0.9"),
        (r"(?i)ABC", "abc"),
        (r"a[bc]d", "acd"),
        (r"time-server\s+\S+", "time-server x"),
        (r"\bword\b", "a word!"),
        (r"x{2}yz", "xxyz"),
        (r"a\+b", "a+b"),
        (r"fo{0,2}bar", "fbar"),
        (r"\w+less", "useless"),
    ],
)
def test_the_pieces_of_an_expression_are_in_all_that_it_matches(expression: str, text: str) -> None:
    assert re.search(expression, text)
    assert pieces_of_expression(expression) <= pieces_of_text(text)


def test_pieces_are_taken_from_what_is_plain() -> None:
    assert pieces_of_expression(r"time-server 10\.20") == pieces_of_text("time-server 10.20")
    assert pieces_of_expression("a|b") == set()


# ---- find and trace ---------------------------------------------------------------------------------------------------


@settings(max_examples=60, deadline=None)
@given(st.lists(_TEXTS, min_size=1, max_size=6, unique=True), _WORDS, st.booleans())
@example(texts=["1\n1\n", "1\n"], wanted="1", exact=False)
def test_finding_is_as_looking_line_by_line(
    tmp_path_factory: pytest.TempPathFactory, texts: list[str], wanted: str, exact: bool
) -> None:
    store = _stored(tmp_path_factory.mktemp("s") / "store", "s", [text.encode() for text in texts])
    query = Query(wanted, exact_case=exact)
    latest = store.state("s").good
    assert latest is not None

    def expected(text: str) -> list[int]:
        lines = enumerate(text.splitlines(), 1)
        return [at for at, line in lines if (wanted in line if exact else wanted.lower() in line.lower())]

    found = [hit.number for hit in find(store, [("s", latest)], query, lambda _: _MASKS).hits]
    assert found == expected(texts[-1])
    ever = find_ever(store, store.versions("s"), query, _MASKS).hits
    assert all(hit.came is not None for hit in ever)
    assert bool(ever) == any(expected(text) for text in texts)
    assert all((hit.gone is None) == (wanted.lower() in texts[-1].lower()) for hit in ever) or any(
        hit.gone is not None for hit in ever
    )
    lives = trace(store, store.versions("s"), query, _MASKS).lives
    assert sum(life.stands for life in lives) == len(expected(texts[-1]))
    for life in lives:
        assert life.events[-1].version.number >= 1
        assert [event.version.number for event in life.events] == sorted(
            (event.version.number for event in life.events), reverse=True
        )
    store.close()


def test_sources_recorded_without_an_index_are_read_all_the_same(tmp_path: Path) -> None:
    store = _stored(tmp_path / "store", "s", [b"alpha\n", b"alpha\nbeta\n"])
    store._db.execute("DELETE FROM signature")
    query = Query("alpha")
    assert [hit.line for hit in find(store, [("s", 2)], query, lambda _: _MASKS).hits] == ["alpha"]
    store.close()
    again = _stored(tmp_path / "store", "s", [b"gamma\n"])
    kept = again.signature("s")
    assert kept is not None
    assert kept[0] == 3
    assert len(find_ever(again, again.versions("s"), query, _MASKS).hits) == 1, "older than the index"
    again.close()


def test_a_suspect_export_is_not_found(tmp_path: Path) -> None:
    store = _stored(tmp_path / "store", "s", [b"alpha\n"])
    number = store.begin_round(START, "test")
    entry = Entry("s", Outcome.SUSPECT, START, timedelta(), [Part("p", b"omega\n")], State.SUSPECT)
    store.record(number, [entry])
    assert store.signature("s") is not None
    assert find(store, [("s", 1)], Query("omega"), lambda _: _MASKS).hits == []
    store.close()


# ---- outlines ---------------------------------------------------------------------------------------------------------


@pytest.mark.parametrize(
    ("kind", "text", "line", "path"),
    [
        ("braces", "a {\n b {\n  c;\n }\n d;\n}\ne {\n f;\n}\n", "f;", ["e"]),
        ("braces", "a {\n b {\n  c;\n }\n d;\n}\n", "d;", ["a"]),
        (
            "words",
            "config x\nedit 1\nset a\nnext\nedit 2\nset b\nnext\nend\nconfig y\nset c\nend\n",
            "set b",
            ["config x", "edit 2"],
        ),
        (
            "words",
            "config x\nedit 1\nset a\nnext\nedit 2\nset b\nnext\nend\nconfig y\nset c\nend\n",
            "set c",
            ["config y"],
        ),
        ("headers", "[a]\nx = 1\n[b]\ny = 2\n", "y = 2", ["[b]"]),
        ("headers", "/ip address\nadd 1\nadd 2\n/ip dns\nset 3\n", "set 3", ["/ip dns"]),
        (
            "prefixes",
            "".join(f"set interfaces port-{n} mtu 1500\n" for n in range(9)),
            "set interfaces port-3 mtu 1500",
            [],
        ),
        ("indentation", "a\n b\n  c\n\n d\ne\n", "d", ["a"]),
        ("indentation", "a\n\tb\n\t\tc\n", "c", ["a", "b"]),
        ("flat", "one\ntwo\n", "two", []),
    ],
)
def test_the_nesting_is_found(kind: str, text: str, line: str, path: list[str]) -> None:
    lines = [one.encode() + b"\n" for one in text.splitlines()]
    outline = outline_of(lines)
    at = next(n for n, one in enumerate(lines) if one.strip() == line.encode())
    assert outline.kind == kind
    assert [heading.decode() for heading in outline.path(at)] == path
    assert [heading.decode() for heading in outline_of(lines, kind).path(at)] == path


@given(st.lists(st.integers(0, 4), max_size=60))
def test_asking_in_any_order_gives_the_same_paths(depths: list[int]) -> None:
    lines = [b" " * depth + b"line %d\n" % n for n, depth in enumerate(depths)]
    rising = outline_of(lines, "indentation")
    paths = [rising.path(at) for at in range(len(lines))]
    falling = outline_of(lines, "indentation")
    assert paths == [falling.path(at) for at in reversed(range(len(lines)))][::-1]
    for at, path in enumerate(paths):
        assert len(path) <= depths[at]


_ANY_LINES = st.lists(
    st.sampled_from(
        [b"a {", b"}", b"} b {", b"c", b"  d", b" e", b"", b"!", b"[h]", b"/x", b"edit 1", b"next", b"   f"]
    ),
    max_size=40,
)


@pytest.mark.parametrize("kind", ["indentation", "braces", "words", "headers", "prefixes", "flat"])
@given(_ANY_LINES)
def test_walking_up_and_one_pass_find_the_same(kind: str, lines: list[bytes]) -> None:
    walked, passed = outline_of(lines, kind), outline_of(lines, kind)
    passed._steps = -1
    assert [walked.parent(at) for at in range(len(lines))] == [passed.parent(at) for at in range(len(lines))]


def test_hostile_nesting_takes_no_time() -> None:
    for line in (b"}", b"a {", b"} {"):
        outline = outline_of([line] * 100_000, "braces")
        assert [outline.parent(at) for at in range(0, 100_000, 7)]


def test_one_flat_section_of_many_lines_takes_no_time() -> None:
    lines = [b"head\n", *(b"  line %d\n" % n for n in range(200_000))]
    outline = outline_of(lines)
    assert all(outline.path(at) == (b"head",) for at in range(1, len(lines), 50))


# ---- the typical one --------------------------------------------------------------------------------------------------


def test_the_typical_source_is_the_one_with_least_that_is_odd() -> None:
    texts = {f"s{n}": b"a 1\nb 2\nc 3\n" + (b"odd\n" if n == 2 else b"") for n in range(5)}
    found = typical(
        {name: {"p": text} for name, text in texts.items()},
        {name: Reader([name], numbers=False) for name in texts},
        dict.fromkeys(texts),
    )
    assert found.source == "s0"
    assert {name: [one.own for one in odd] for name, odd in found.oddities.items()} == {
        "s0": [],
        "s1": [],
        "s2": ["odd"],
        "s3": [],
        "s4": [],
    }


# ---- noise ------------------------------------------------------------------------------------------------------------


def test_noise_in_documents_is_proposed_by_place(tmp_path: Path) -> None:
    texts = [json.dumps({"rules": [{"name": "a", "hits": n}], "at": f"x{n}"}).encode() for n in range(6)]
    store = _stored(tmp_path / "store", "s", texts, "r.json")
    rules = sorted(one.rule for one in study(store, store.versions("s"), _MASKS))
    assert rules == ["json:/at", "json:/rules/*/hits"]
    assert study(store, store.versions("s"), Masks(map(Noise.parse, rules), key=b"k")) == []
    store.close()


def test_masks_for_a_shipped_procedure_extend_it(estate: EstateFolder) -> None:
    estate.write("""
[estate]
name = "Test"
procedures_from = "procedures"
[[sources]]
name = "a"
procedure = "local-tree"
values = { path = "data" }
[[sources]]
name = "b"
procedure = "own"
""")
    (estate.path / "procedures").mkdir()
    own = estate.path / "procedures" / "own.toml"
    own.write_text('# kept\nover = "local"\nsteps = [{ pull = "data" }]\n')
    (estate.path / "data").mkdir()
    for n in range(6):
        (estate.path / "data" / "x").write_text(f"uptime {n * 7} s\nrest\n")
        estate.run("collect")
    assert "added to the procedure local-tree in historon.toml" in estate.run("noise", "a", "--take", "all").out
    assert 'extends = "local-tree"' in (estate.path / "historon.toml").read_text()
    assert "added to the procedure own in own.toml" in estate.run("noise", "b", "--take", "1").out
    assert own.read_text().startswith("# kept\n")
    for source in "ab":
        assert "no further noise found in 6 good versions" in estate.run("noise", source).out


# ---- requirements -----------------------------------------------------------------------------------------------------


def _rule(**said: object) -> Requirement:
    patterns = {key: tuple(map(Pattern.parse, value)) for key, value in said.items() if isinstance(value, list)}
    plain = {key: value for key, value in said.items() if not isinstance(value, list)}
    return Requirement(name="r", **plain, **patterns)  # type: ignore[arg-type]


def test_requirements_hold_for_texts_and_documents() -> None:
    parts = {
        "a.cfg": b"interface port-1\n  mtu 1500\ninterface port-2\n  mtu 9000\n  password CANARY\n",
        "b.xml": b'<c><rule name="x" port="443"/><rule name="y" port="23"/></c>',
        "c.json": b'{"log": {"to": ["a", "b"]}}',
        "d.bin": b"\0telnet",
    }
    assert unmet([_rule(must=["^interface port-1 / mtu 1500$", "^/log/to/1|b"])], parts, _MASKS) == []
    (lacks,) = unmet([_rule(must=["telnet"], part="*.cfg")], parts, _MASKS)
    assert str(lacks) == "r: lacks telnet"
    (port,) = unmet([_rule(must_not=["@port = 23$"])], parts, _MASKS)
    assert port.has == "/c/rule[@name='y']/@port = 23"
    (each,) = unmet([_rule(each=Pattern.parse(r"^interface port-\d+$"), must=["mtu 1500"])], parts, _MASKS)
    assert each.section == "interface port-2"
    (secret,) = unmet([_rule(must_not=["CANARY"])], parts, _MASKS)
    assert "CANARY" not in secret.has


def test_only_what_is_new_is_news() -> None:
    rules = [_rule(must=["a"])]
    one, other = Unmet("r", lacks="a"), Unmet("r", has="b")
    told, fresh, met_again = news_of(None, rules, [one])
    assert (fresh, met_again) == ([one], [])
    told, fresh, met_again = news_of(told, rules, [one, other])
    assert (fresh, met_again) == ([other], [])
    assert same_rules(told, rules)
    assert not same_rules(told, [_rule(must=["b"])])
    _, fresh, met_again = news_of(told, rules, [])
    assert (fresh, met_again) == ([], ["r"])


@pytest.mark.parametrize(
    "said", ['noise = ["value:colour"]', 'noise = ["xpath://["]', 'unordered = ["("]', 'outline = "deep"']
)
def test_wrong_masks_are_refused_with_their_place(estate: EstateFolder, said: str) -> None:
    describe_estate(estate, over="local", steps='{ pull = "data" }', procedure=said, source="", more="", head="")
    result = estate.run("sources")
    assert result.code == 4
    assert "procedures.p" in result.err


# ---- what cannot be looked into ---------------------------------------------------------------------------------------

_LARGE = 16 * 2**20


def test_what_cannot_be_looked_into_is_neither_met_nor_failed() -> None:
    large = b"\0%d bytes, SHA-256 %s" % (2 * _LARGE, b"a" * 64)
    broken = b"\x1f\x8b\x08" + b"cut"
    for content in (large, broken):
        for rule in (_rule(must=["telnet"]), _rule(must_not=["telnet"]), _rule(must=["x"], part="b.tar/etc/*")):
            (told,) = unmet([rule], {"b.tar": content, "a.cfg": b"ssh\n"}, _MASKS)
            assert told.unknown.startswith("b.tar is ")
            assert told.what.startswith("unknown: ")
            assert not told.lacks
    assert unmet([_rule(must=["ssh"], part="a.cfg")], {"b.tar": large, "a.cfg": b"ssh\n"}, _MASKS) == []
    (member,) = unmet([_rule(must_not=["telnet"], part="*.cfg")], {"b.tar": large, "a.cfg": b"ssh\n"}, _MASKS)
    assert member.unknown.startswith("b.tar is "), "a member b.tar/x.cfg is meant too, and cannot be seen"
    seen = unmet([_rule(must_not=["ssh"])], {"b.tar": large, "a.cfg": b"ssh\n"}, _MASKS)
    assert [one.has for one in seen] == ["ssh", ""], "what is seen to be wrong is wrong"


def test_a_rule_about_nothing_is_unknown() -> None:
    (part,) = unmet([_rule(must_not=["x"], part="nowhere*")], {"a.cfg": b"x\n"}, _MASKS)
    assert part.unknown == "no readable part is called nowhere*"
    (each,) = unmet([_rule(each=Pattern.parse("^port"), must_not=["x"])], {"a.cfg": b"x\n"}, _MASKS)
    assert each.unknown == "each = ^port matches nothing"


def test_large_parts_are_said_to_be_too_large_and_what_is_in_them_unknown(estate: EstateFolder) -> None:
    text = """
[estate]
name = "Test"
[procedures.files]
over = "local"
steps = [{ pull = "log.txt", as = "log.txt" }]
[[requirements]]
name = "no telnet"
must_not = ["telnet"]
[[sources]]
name = "s"
procedure = "files"
"""
    estate.write(text)
    lines = b"".join(b"line %07d of a text that is long enough\n" % number for number in range(420_000))
    for change in (b"", b"telnet\n"):
        (estate.path / "log.txt").write_bytes(lines + change)
        assert estate.run("collect").code == 0
    diff = estate.run("diff", "s")
    assert diff.code == 1
    assert "too large to be" in diff.out
    patch = estate.run("diff", "s", "--form", "unified") if "--form" in estate.run("diff", "--help").out else diff
    for result in (diff, patch):
        assert "inary" not in result.out
    found = estate.run("find", "telnet")
    assert found.out.startswith('"telnet" is in none of 1 source; 1 part could not be searched')
    assert "not searched: s log.txt, which is too large to be examined" in found.out
    beside = {"part": "log.txt", "why": "is too large to be examined"}
    assert estate.run("find", "telnet", "--ever", "--json").data["not_searched"] == [{"source": "s", **beside}]
    assert estate.run("trace", "s", "telnet", "--json").data["not_searched"] == [beside]
    result = estate.run("requirements")
    assert result.code == 1
    assert "unknown for 1 of 1 source" in result.out
    assert "unknown: log.txt is too large to be examined" in result.out
    status = estate.run("status")
    assert status.code == 1
    assert status.out.startswith("1 source: 1 no limit; requirements: 1 unknown")


_PACKING = {"b.tgz": "w:gz", "b.txz": "w:xz", "b.tar": "w", "b.zip": ""}


@pytest.mark.parametrize("name", sampled(1, _PACKING))
def test_the_members_of_a_large_archive_are_listed_and_what_fits_is_read(estate: EstateFolder, name: str) -> None:
    """Over 16 MiB, packed; the database in it stays closed, which is said of it and of nothing else."""
    describe_estate(
        estate,
        over="local",
        steps=f'{{ pull = "{name}" }}',
        more=f"""
[[requirements]]
name = "list"
part = "{name}.tree"
must = [" etc/ssh.conf", " db.dump"]
must_not = [" etc/shadow"]
[[requirements]]
name = "ssh"
part = "*ssh.conf"
must_not = ["telnet"]
[[requirements]]
name = "dump"
part = "*.dump"
must_not = ["telnet"]
""",
    )
    members = {"etc/ssh.conf": b"port 22\n", "db.dump": os.urandom(17 * 2**20), "etc/shadow": b"x\n"}
    for forbidden in (True, False):
        if not forbidden:
            del members["etc/shadow"]
        _pack(estate.path / name, members)
        assert estate.run("collect", PW="x", UP="y").code == 0
        (row,) = estate.run("requirements", "--json", PW="x", UP="y").rows
        assert [one["requirement"] for one in row["not_met"]] == ["list"] * forbidden
        assert [one["because"] for one in row["unknown"]] == [f"{name}/db.dump is too large to be examined"]
        status = estate.run("status", PW="x", UP="y")
        assert f"requirements: 1 {'not met' if forbidden else 'unknown'}" in status.out


def _gz(content: bytes) -> bytes:
    return gzip.compress(content, mtime=0)


def _tar_of(name: str, content: bytes) -> bytes:
    made = io.BytesIO()
    with tarfile.open(fileobj=made, mode="w:gz") as archive:
        info = tarfile.TarInfo(name)
        info.size = len(content)
        archive.addfile(info, io.BytesIO(content))
    return made.getvalue()


_FORBIDDEN = b"ntp server 1\nservice telnet\nntp server 2\n"


@pytest.mark.parametrize(
    ("name", "content", "verdict"),
    [
        ("a.gz", _gz(_FORBIDDEN), "not met"),
        ("a.tgz", _tar_of("etc/a.gz", _gz(_FORBIDDEN)), "not met"),
        ("a.tgz", _tar_of("etc/b.tgz", _tar_of("a.cfg", _FORBIDDEN)), "not met"),
        ("a.tgz", _tar_of("etc/b.tgz", _tar_of("c.tgz", _tar_of("d.gz", _gz(_FORBIDDEN)))), "unknown"),
        ("a.tgz", _tar_of("etc/wide.txt", _FORBIDDEN.decode().encode("utf-16")), "not met"),
        ("a.txt", _FORBIDDEN.decode().encode("utf-16-le"), "not met"),
        ("a.tgz", _tar_of("etc/a.gz", _gz(_FORBIDDEN.replace(b"telnet", b"ssh"))), "met"),
    ],
    ids=range(7),
)
def test_a_rule_is_looked_up_in_what_is_packed_within_what_is_packed(
    estate: EstateFolder, name: str, content: bytes, verdict: str
) -> None:
    more = '[[requirements]]\nname = "no telnet"\nmust_not = ["telnet"]\n'
    describe_estate(estate, over="local", steps=f'{{ pull = "{name}" }}', more=more)
    (estate.path / name).write_bytes(content)
    assert estate.run("collect", PW="x", UP="y").code == 0
    assert estate.run("requirements", PW="x", UP="y").code == (0 if verdict == "met" else 1)
    (row,) = estate.run("status", "--json", PW="x", UP="y").rows
    assert row["requirements"] == verdict
    found = estate.run("find", "telnet", "--json", PW="x", UP="y")
    assert bool(found.rows) is (verdict == "not met")
    assert bool(found.data["not_searched"]) is (verdict == "unknown")


def test_a_rule_can_count(estate: EstateFolder) -> None:
    more = '[[requirements]]\nname = "two clocks"\nmust = ["^ntp server"]\nat_least = 2\n'
    describe_estate(estate, over="local", steps='{ pull = "a.cfg" }', more=more)
    (estate.path / "a.cfg").write_bytes(_FORBIDDEN)
    estate.run("collect", PW="x", UP="y")
    assert estate.run("requirements", PW="x", UP="y").code == 0
    (estate.path / "a.cfg").write_bytes(_FORBIDDEN.replace(b"ntp server 2\n", b"x\n"))
    estate.run("collect", PW="x", UP="y")
    assert "lacks ^ntp server (1 of at least 2)" in estate.run("requirements", PW="x", UP="y").out


def _pack(file: Path, members: dict[str, bytes]) -> None:
    if file.suffix == ".zip":
        with zipfile.ZipFile(file, "w") as made:
            for name, content in members.items():
                made.writestr(name, content)
        return
    quick = {"preset": 0} if file.name.endswith("xz") else {}
    with tarfile.open(file, _PACKING[file.name], **quick) as archive:  # type: ignore[call-overload]
        for name, content in members.items():
            info = tarfile.TarInfo(name)
            info.size = len(content)
            archive.addfile(info, io.BytesIO(content))


def test_archives_that_are_encrypted_or_damaged_are_named_by_who_searches(estate: EstateFolder) -> None:
    """Also where the index of texts says that the source need not be read."""
    describe_estate(estate, over="local", steps='{ pull = "b", is = "anything" }, { pull = "a.cfg" }')
    (estate.path / "a.cfg").write_text("ssh\n")
    content = io.BytesIO()
    with zipfile.ZipFile(content, "w") as made:
        made.writestr("x", b"telnet")
    encrypted = bytearray(content.getvalue())
    for mark, at in ((b"PK\3\4", 6), (b"PK\1\2", 8)):
        encrypted[encrypted.find(mark) + at] |= 1
    for archive in (gzip.compress(os.urandom(9000))[:-9], bytes(encrypted)):
        (estate.path / "b").write_bytes(archive)
        assert estate.run("collect", PW="x", UP="y").code == 0
        for command in ("find telnet", "find telnet --ever", "trace s telnet"):
            out = estate.run(*command.split(), PW="x", UP="y").out
            assert re.search(r"not searched.*: (s )?b, which is a damaged or encrypted archive", out)
    (estate.path / "b").write_bytes(b"ssh\n")
    estate.run("collect", PW="x", UP="y")
    assert "looked" not in estate.run("find", "telnet", PW="x", UP="y").out


def test_a_large_member_of_a_small_archive_is_compared_by_its_digest(tmp_path: Path) -> None:
    """It was taken for unchanged: its name, size and time were the same."""
    zeros = bytearray(17 * 2**20)
    _pack(tmp_path / "b.tgz", {"big": bytes(zeros), "small": b"x\n"})
    before = (tmp_path / "b.tgz").read_bytes()
    zeros[-1] = 1
    _pack(tmp_path / "b.tgz", {"big": bytes(zeros), "small": b"x\n"})
    (change,) = compare_exports({"b.tgz": before}, {"b.tgz": (tmp_path / "b.tgz").read_bytes()}, _MASKS)
    assert (change.name, change.kind) == ("b.tgz/big", Kind.BINARY)


# ---- a line keeps its life when what is above it changes --------------------------------------------------------------

_FIRST = b"interface port-1\n  mtu 1500\n  vlan 7\ninterface port-2\n  mtu 9000\n"
_RENAMED = b"interface uplink-1\n  mtu 1500\n  vlan 7\ninterface port-2\n  mtu 9000\n"


def test_a_stay_goes_on_when_a_heading_above_becomes_another(tmp_path: Path) -> None:
    store = _stored(tmp_path / "store", "s", [_FIRST, _RENAMED, _RENAMED.replace(b"  vlan 7\n", b"")])
    stays = find_ever(store, store.versions("s"), Query("mtu"), _MASKS).hits
    assert [(hit.line, hit.came and hit.came.number, hit.gone) for hit in stays] == [
        ("mtu 1500", 1, None),
        ("mtu 9000", 1, None),
    ]
    (vlan,) = find_ever(store, store.versions("s"), Query("vlan 7"), _MASKS).hits
    assert vlan.came is not None
    assert vlan.gone is not None
    assert (vlan.came.number, vlan.gone.number) == (1, 3)
    store.close()


def test_a_line_that_came_before_its_heading_changed_is_dated_right(tmp_path: Path) -> None:
    without = _FIRST.replace(b"  vlan 7\n", b"")
    store = _stored(tmp_path / "store", "s", [without, without + b"end\n", _FIRST, _RENAMED])
    (life,) = trace(store, store.versions("s"), Query("vlan 7"), _MASKS).lives
    assert [event.version.number for event in life.events] == [3], "not from the first version on"
    store.close()


@given(st.lists(st.integers(0, 3), min_size=2, max_size=6), st.integers(0, 5))
@settings(max_examples=40)
def test_the_life_of_a_line_begins_where_the_line_does(names: list[int], came: int) -> None:
    """Whatever the heading above is called from version to version."""
    came %= len(names)
    texts = [
        b"interface port-%d\n  mtu 1500\n%s" % (name, b"  vlan 7\n" if at >= came else b"")
        for at, name in enumerate(names)
    ]
    with tempfile.TemporaryDirectory() as folder:
        store = _stored(Path(folder) / "store", "s", texts)
        history = store.versions("s")
        first = next(one.number for one in history if b"vlan" in store.read(store.parts("s", one.number)[0]))
        (life,) = trace(store, history, Query("vlan 7"), _MASKS).lives
        assert life.events[-1].version.number == first
        (hit,) = find_ever(store, history, Query("vlan 7"), _MASKS).hits
        assert hit.came is not None
        assert (hit.came.number, hit.gone) == (first, None)
        store.close()


# ---- noise that would hide what is real -------------------------------------------------------------------------------


def test_a_line_of_one_word_that_always_differs_is_no_reason_to_hide_every_line(tmp_path: Path) -> None:
    texts = [b"hostname a\ninterface b\n%s\n" % word for word in (b"ape", b"bee", b"cat", b"dog", b"elk", b"fox")]
    store = _stored(tmp_path / "store", "s", texts)
    proposals = study(store, store.versions("s"), _MASKS)
    assert [str(one.rule) for one in proposals] == []
    store.close()


_LINES = ["up 1", "up 2", "up 3", "link port-1 up", "link port-2 up", "x", "y z", "  under 1", "  under 2", "end"]


@given(st.lists(st.lists(st.sampled_from(_LINES), max_size=7), min_size=4, max_size=8))
@example(
    [["link port-1 up"], ["up 1", "link port-2 up"], ["link port-2 up", "up 1"], ["link port-1 up"], ["link port-2 up"]]
)
@example(
    [[f"link port-{2 - night % 2} up"] for night in range(4)]
    + [["link port-1 up", *["link port-2 up"] * 2], ["link port-2 up", "link port-1 up"]]
)
@settings(max_examples=60)
def test_a_proposal_tells_every_version_in_which_it_would_hide_anything(texts: list[list[str]]) -> None:
    """Seen by comparing the whole history once more with the rule in force."""
    with tempfile.TemporaryDirectory() as folder:
        written = ["".join(f"{line}\n" for line in ("head", *lines)).encode() for lines in texts]
        store = _stored(Path(folder) / "store", "s", written)
        history = store.versions("s")
        proposals = study(store, history, _MASKS)
        noisy = {number for one in proposals for number in one.seen_in}
        for one in proposals:
            told = {hidden.version for hidden in one.hides}
            hiding = set(_hiding(store, history, one))
            assert told <= hiding <= told | noisy
            assert set(one.seen_in) <= hiding
        store.close()


def _hiding(store: FolderStore, history: Sequence[Version], one: Proposal) -> Iterator[int]:
    """The versions of which something is reported that is not reported with the proposal's rule."""
    for before, version in pairwise(history):
        sides = [
            {part.name: store.read(part) for part in store.parts("s", which.number)} for which in (before, version)
        ]
        told, left = (
            sum(change.added + change.removed for change in compare_exports(sides[0], sides[1], masks))
            for masks in (_MASKS, one.added_to(_MASKS))
        )
        if left < told:
            yield version.number


_CERTIFICATE = "crypto certificate self\n  usage ssh\n  -----BEGIN CERTIFICATE-----\n{}  -----END CERTIFICATE-----\n"


def _certificate(number: int, width: int = 64) -> str:
    text = base64.b64encode(random.Random(number).randbytes(300)).decode()
    return "".join(f"  {text[at : at + width]}\n" for at in range(0, len(text), width))


def test_a_certificate_that_is_made_anew_is_proposed_by_its_place(tmp_path: Path) -> None:
    """And one under another heading is real."""
    texts = []
    for number in range(6):
        other = _CERTIFICATE.format(_certificate(99 + (number > 3))).replace("self", "of the authority")
        texts.append(f"hostname a\n{_CERTIFICATE.format(_certificate(number))}{other}end\n".encode())
    store = _stored(tmp_path / "store", "s", texts)
    (one,) = study(store, store.versions("s"), _MASKS)
    assert one.rule.startswith(r"path:^crypto\ certificate\ self / ")
    assert (len(one.seen_in), one.alone, one.hides) == (5, 4, [])
    (hidden, real) = (one.added_to(_MASKS), texts[-1].replace(b"usage ssh", b"usage any"))
    assert not compare_exports({"p": texts[0]}, {"p": texts[1]}, hidden)
    assert compare_exports({"p": texts[3]}, {"p": texts[4]}, hidden)
    assert compare_exports({"p": texts[-1]}, {"p": real}, hidden)
    store.close()


@pytest.mark.parametrize("kind", ["text", "xml", "json"])
def test_a_list_that_comes_in_another_order_each_time_is_proposed_as_unordered(tmp_path: Path, kind: str) -> None:
    texts = []
    for number in range(7):
        names = [f"member-{one}.example" for one in range(8)] + ["member-new.example"] * (number == 5)
        random.Random(number).shuffle(names)
        texts.append(_list_of(names, kind))
    store = _stored(tmp_path / "store", "s", texts, f"p.{kind}")
    (one,) = study(store, store.versions("s"), _MASKS)
    assert one.setting == "unordered"
    assert len(one.seen_in) == 6
    assert one.hides == []
    free = one.added_to(_MASKS)
    differing = [
        number
        for number, (old, new) in enumerate(pairwise(texts), 1)
        if compare_exports({f"p.{kind}": old}, {f"p.{kind}": new}, free)
    ]
    assert differing == [5, 6], "the member that came, and went"
    store.close()


def _list_of(names: Sequence[str], kind: str) -> bytes:
    if kind == "json":
        return json.dumps({"pool": {"members": [{"name": name} for name in names]}}).encode()
    if kind == "xml":
        entries = "".join(f'<member name="{name}"/>' for name in names)
        return f"<pool><members>{entries}</members></pool>".encode()
    return "".join(["pool quay\n", *(f"  member {name}\n" for name in names), "end\n"]).encode()


def test_what_hides_real_changes_is_taken_only_with_a_reason(files_estate: EstateFolder) -> None:
    file = files_estate.path / "data" / "a.conf"
    for number, up in enumerate((1, 2, 3, 4, 5, 6, 7)):
        berth = "west" if number > 3 else "east"
        file.write_text(f"lease of a{up} held\nlease of {berth} held\nend\n")
        files_estate.run("collect")
    (row,) = files_estate.run("noise", "files", "--json").rows
    assert row["hides"] == [{"version": 5, "old": "lease of east held", "new": "lease of west held"}]
    told = files_estate.run("noise", "files").out
    assert "would also have hidden 1 real change, in 1 version:" in told
    assert "@5     lease of east held → lease of west held" in told
    before = (files_estate.path / "historon.toml").read_text()
    refused = files_estate.run("noise", "files", "--take", "1")
    assert refused.code == 2
    assert "proposal 1 would hide real changes too; nothing was written" in refused.err
    files_estate.run("noise", "files", "--take", "all")
    assert (files_estate.path / "historon.toml").read_text() == before
    taken = files_estate.run("noise", "files", "--take", "1", "--because", "routes are looked after\nelsewhere")
    assert "1 mask added to the procedure files" in taken.out
    assert "# routes are looked after elsewhere" in (files_estate.path / "historon.toml").read_text()
    assert files_estate.run("status").code == 0


def test_the_doctor_finds_noise_that_leaves_out_nearly_all(estate: EstateFolder) -> None:
    text = """
[estate]
name = "Test"
[procedures.files]
over = "local"
steps = [{ pull = "x.cfg", as = "x.cfg" }]
noise = ['^(.+)$']
[[sources]]
name = "s"
procedure = "files"
"""
    estate.write(text)
    (estate.path / "x.cfg").write_text("".join(f"line {number}\n" for number in range(40)))
    assert estate.run("collect").code == 0
    result = estate.run("doctor")
    assert result.code == 1
    assert "noise hides 40 of 40 lines of s: changes in them are not reported" in " ".join(result.out.split())
    estate.write(text.replace("^(.+)$", "^line 7$"))
    assert "noise hides" not in estate.run("doctor").out
