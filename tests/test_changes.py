"""What a change means: corpora of edits with known truth, over nested texts, documents and trees."""

import io
import json
import random
import tarfile
import zipfile
from collections.abc import Callable, Sequence
from io import BytesIO
from itertools import pairwise

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from historon.collect.judging import changed_lines
from historon.compare import Change, Edit, How, Kind, PartChange, align_texts, compare_exports, outline_of
from historon.estate import Noise, Pattern
from historon.insight import Reader
from historon.versions import Masks

_MASKS = Masks(key=b"k")
_TEXTS = st.lists(st.sampled_from([b"a", b"b", b"  c", b"!", b"", b"d e f g h i j k l m n o"]), max_size=120)


def _changed(old: str, new: str, name: str = "p", masks: Masks = _MASKS) -> list[PartChange]:
    return compare_exports({name: old.encode()}, {name: new.encode()}, masks)


def _changes(old: str, new: str, name: str = "p", masks: Masks = _MASKS) -> list[tuple[str, str, str, str]]:
    return [(c.how, c.path, c.old, c.new) for part in _changed(old, new, name, masks) for c in part.changes]


def _applied(old: bytes, edits: Sequence[Edit], new: bytes) -> bytes:
    left, right = old.split(b"\n"), new.split(b"\n")
    made: list[bytes] = []
    at = 0
    for edit in edits:
        made += left[at : edit.old_from] + right[edit.new_from : edit.new_to]
        at = edit.old_to
    return b"\n".join(made + left[at:])


@settings(max_examples=300)
@given(_TEXTS, _TEXTS, st.integers(0, 40), st.booleans())
def test_texts_are_aligned_right(one: list[bytes], other: list[bytes], same: int, tail: bool) -> None:
    common = [b"common line %d" % n for n in range(same)]
    old, new = (b"".join(line + b"\n" for line in [*common, *side, *common[::-1]]) for side in (one, other))
    if tail:
        old += b"\nend without a line feed"
    edits = align_texts(old, new)
    if old.endswith(b"\n"):
        assert _applied(old, edits, new) == new
    assert (not edits) == (old == new)
    assert all(first.old_to < then.old_from for first, then in pairwise(edits))


def test_hostile_texts_end_soon_and_are_told_whole() -> None:
    rng = random.Random(1)
    old, new = (b"".join(b"%d\n" % rng.randrange(3) for _ in range(60_000)) for _ in range(2))
    assert _applied(old, align_texts(old, new), new) == new
    near = old.replace(b"0\n1\n2\n", b"0\n9\n2\n")
    assert _applied(old, align_texts(old, near), near) == near


# ---- outlines ---------------------------------------------------------------------------------------------------------


def _by_indentation(sections: dict[str, dict[str, str]]) -> str:
    return "".join(
        f"{name}\n" + "".join(f"  {k} {v}\n" for k, v in body.items()) + "!\n" for name, body in sections.items()
    )


def _by_braces(sections: dict[str, dict[str, str]]) -> str:
    return "".join(
        f"{name} {{\n" + "".join(f"{k} {v};\n" for k, v in body.items()) + "}\n" for name, body in sections.items()
    )


def _by_words(sections: dict[str, dict[str, str]]) -> str:
    return "".join(
        f"edit {name}\n" + "".join(f"set {k} {v}\n" for k, v in body.items()) + "next\n"
        for name, body in sections.items()
    )


def _by_headers(sections: dict[str, dict[str, str]]) -> str:
    return "".join(f"/{name}\n" + "".join(f"{k} {v}\n" for k, v in body.items()) for name, body in sections.items())


_WRITERS = {"indentation": _by_indentation, "braces": _by_braces, "words": _by_words, "headers": _by_headers}


def _sections(rng: random.Random) -> dict[str, dict[str, str]]:
    keys = ("description", "address", "mtu", "speed", "queue")
    return {
        f"interface port-{n}": {key: f"{rng.choice('abcdef')}{rng.randrange(10**6)}" for key in keys} for n in range(40)
    }


@pytest.mark.parametrize("kind", _WRITERS)
@pytest.mark.parametrize("seed", range(12))
def test_edits_of_known_truth_are_told_as_what_they_are(kind: str, seed: int) -> None:
    rng = random.Random(f"{kind} {seed}")
    write: Callable[[dict[str, dict[str, str]]], str] = _WRITERS[kind]
    sections = _sections(rng)
    edited = {name: dict(body) for name, body in sections.items()}
    names = rng.sample(sorted(sections), 4)
    edited[names[0]]["mtu"] = "z9000000"
    del edited[names[1]]["speed"]
    edited[names[2]]["storm"] = "y5000000"
    del edited[names[3]]
    old, new = write(sections), write(edited)
    assert outline_of([line + b"\n" for line in old.encode().splitlines()]).kind == kind
    end = ";" if kind == "braces" else ""
    begin, verb = {"words": ("edit ", "set "), "headers": ("/", "")}.get(kind, ("", ""))
    assert sorted(_changes(old, new)) == sorted(
        [
            (How.EDITED, f"{begin}{names[0]} / {verb}mtu", sections[names[0]]["mtu"], "z9000000"),
            (How.REMOVED, f"{begin}{names[1]}", f"{verb}speed {sections[names[1]]['speed']}{end}", ""),
            (How.ADDED, f"{begin}{names[2]}", "", f"{verb}storm y5000000{end}"),
            (How.REMOVED, "", f"{begin}{names[3]}" + " {" * (kind == "braces"), ""),
        ]
    )


def test_a_heading_is_found_hundreds_of_lines_away() -> None:
    rules = [f"  permit host 10.0.{n // 250}.{n % 250} port {n}" for n in range(3000)]
    old = "\n".join(["hostname x", "access-list inside", *rules, "end"])
    assert _changes(old, old.replace("port 2990", "port 22")) == [
        (How.EDITED, "access-list inside / permit host 10.0.11.240 port", "2990", "22")
    ]


def test_a_moved_rule_is_said_to_have_moved() -> None:
    rules = [f"  permit host 10.0.0.{n} port {n}" for n in range(1, 13)]
    old = "\n".join(["access-list inside", *rules, "end", ""])
    rules.insert(8, rules.pop(3))
    (change,) = _changed(old, "\n".join(["access-list inside", *rules, "end", ""]))[0].changes
    assert (change.how, change.path, change.ranks) == (How.MOVED, "access-list inside", (4, 9))
    assert change.words == "permit host 10.0.0.4 port 4 moved from 4 to 9"


@pytest.mark.parametrize("seed", range(20))
def test_moves_of_known_truth_among_noise(seed: int) -> None:
    rng = random.Random(seed)
    rules = [f"  permit host 10.{n}.0.{rng.randrange(255)} port {n * 7}" for n in range(20)]
    head = ["hostname x", "! saved at 1", "access-list inside"]
    masks = Masks([Noise.parse("^! saved at ")], key=b"k")
    old = "\n".join([*head, *rules, "end", ""])
    turned = list(rules)
    start, end = rng.sample(range(20), 2)
    turned.insert(end, turned.pop(start))
    new = "\n".join(["hostname x", "! saved at 2", "access-list inside", *turned, "end", ""])
    (change,) = _changed(old, new, masks=masks)[0].changes
    assert change.how is How.MOVED
    assert change.ranks in ((start + 1, end + 1), (end + 1, start + 1)), "neighbours may be told either way"
    if abs(start - end) > 1:
        assert change.ranks == (start + 1, end + 1)
    assert _changed(old, old.replace("at 1", "at 2"), masks=masks) == [], "noise only"


def test_order_means_nothing_where_a_mask_says_so() -> None:
    old = "route-list\n  route a b c\n  route d e f\n  route g h i\nacl\n  permit aaaa bbbb\n  permit cccc dddd\n  deny any\n"
    turned = "route-list\n  route g h i\n  route d e f\n  route a b c\nacl\n  permit aaaa bbbb\n  permit cccc dddd\n  deny any\n"
    masks = Masks(key=b"k", unordered=[Pattern.parse("^route-list")])
    assert _changed(old, turned, masks=masks) == []
    assert _changed(old, turned) != []
    both = turned.replace("  permit aaaa bbbb\n  permit cccc dddd\n", "  permit cccc dddd\n  permit aaaa bbbb\n")
    assert [how for how, *_ in _changes(old, both, masks=masks)] == [How.MOVED]


def test_noise_by_place_and_by_kind_of_value() -> None:
    old = "stats\n  in 7\n  out 8\nport 1\n  in 3\n  seen 2026-01-01 10:00:00\n  serial number: AB12\n  hits 77 x\n"
    new = "stats\n  in 9\n  out 9\nport 1\n  in 3\n  seen 2026-02-03 11:30:09\n  serial number: CD99\n  hits 80 x\n"
    masks = Masks([Noise.parse(one) for one in ("path:^stats / ", "value:time", "value:serial", "value:counter")])
    assert _changed(old, new, masks=masks) == []
    assert _changes(old, new.replace("in 3", "in 4"), masks=masks) == [(How.EDITED, "port 1 / in", "3", "4")]


@pytest.mark.parametrize("rule", ["value:colour", "json:a/b", "xpath://[", "path:(", "("])
def test_wrong_noise_is_refused(rule: str) -> None:
    with pytest.raises(ValueError):
        Noise.parse(rule)


# ---- documents --------------------------------------------------------------------------------------------------------


def test_xml_is_told_by_its_tree() -> None:
    old = """<?xml version="1.0"?><c xmlns="urn:x" xmlns:q="urn:q"><rules>
      <rule name="a" port="1"><log>no</log></rule><rule port="2" name="b"/><rule name="c" port="3"/><q:z>1</q:z></rules></c>"""
    same = """<n:c xmlns:n="urn:x" xmlns:q="urn:q">
      <n:rules> <n:rule port='1' name='a'> <n:log>no</n:log> </n:rule>
      <n:rule name="b" port="2"></n:rule> <n:rule name="c" port="3"/> <q:z>1</q:z></n:rules></n:c>"""
    assert _changed(old, same, "r.xml") == []
    new = (
        same.replace(">no<", ">yes<")
        .replace('<n:rule name="b" port="2"></n:rule>', "")
        .replace("</n:rules>", '<n:rule name="d" port="4"/></n:rules>')
    )
    assert sorted(_changes(old, new, "r.xml")) == [
        (How.ADDED, "/c/rules/rule[@name='d']", "", '<n:rule name="d" port="4"/>'),
        (How.EDITED, "/c/rules/rule[@name='a']/log", "no", "yes"),
        (How.REMOVED, "/c/rules/rule[@name='b']", '<rule port="2" name="b"/>', ""),
    ]


@pytest.mark.parametrize("seed", range(10))
def test_corpora_of_json_are_told_right(seed: int) -> None:
    rng = random.Random(seed)
    rules = [{"seq": n * 10, "uuid": f"{rng.getrandbits(64):x}", "to": {"port": rng.randrange(999)}} for n in range(50)]
    old = {"host": "a", "rules": rules, "dns": ["10.0.0.1", "10.0.0.2"]}
    new = json.loads(json.dumps(old))
    at, gone = sorted(rng.sample(range(50), 2))
    new["rules"][at]["to"]["port"] = 4444
    removed = new["rules"].pop(gone)
    new["dns"].append("10.0.0.3")
    new["a/b"] = True
    text = json.dumps(dict(reversed(new.items())), indent=rng.choice((None, 2)))
    assert sorted(_changes(json.dumps(old), text)) == sorted(
        [
            (How.EDITED, f"/rules/{at} (uuid {rules[at]['uuid']})/to/port", str(rules[at]["to"]["port"]), "4444"),  # type: ignore[index]
            (How.REMOVED, f"/rules/{gone} (uuid {removed['uuid']})", json.dumps(removed), ""),
            (How.ADDED, "/dns/2", "", '"10.0.0.3"'),
            (How.ADDED, "/a~1b", "", "true"),
        ]
    )
    assert _changed(json.dumps(old), json.dumps(dict(reversed(old.items())), indent=3)) == []


def test_a_renamed_key_is_told() -> None:
    old, new = '{"a": {"mtu": 1500, "x": 1}}', '{"a": {"max-mtu": 1500, "x": 1}}'
    assert sorted(_changes(old, new)) == [(How.ADDED, "/a/max-mtu", "", "1500"), (How.REMOVED, "/a/mtu", "1500", "")]


def test_places_in_documents_may_be_noise() -> None:
    masks = Masks([Noise.parse("json:/rules/*/hits"), Noise.parse("xpath://rule/@hits"), Noise.parse("xpath://age")])
    old, new = '{"rules": [{"hits": 1, "to": 2}]}', '{"rules": [{"hits": 7, "to": 2}]}'
    assert _changed(old, new, masks=masks) == []
    assert _changes(old, new.replace('"to": 2', '"to": 3'), masks=masks) == [(How.EDITED, "/rules/0/to", "2", "3")]
    xml = '<r xmlns="urn:y"><rule hits="1"/><age>3</age></r>'
    assert _changed(xml, xml.replace('"1"', '"2"').replace("3", "4"), masks=masks) == []
    assert _changed(xml, xml.replace('"1"', '"2"').replace("3", "4")) != []


def test_lines_that_say_nothing_are_a_change_too() -> None:
    assert _changes("a\nb\n", "a\n!\n\nb\n") == [(How.EDITED, "", "", "only blank lines and separators")]


def test_csv_and_ini_are_told_by_key() -> None:
    csv = "door,reader,opens\ngangway,inside,crew\nslipway,both,yard\nfuel,outside,yard\n"
    assert _changes(csv, csv.replace("both", "outside").replace("fuel,outside,yard\n", ""), "d.csv") == [
        (How.REMOVED, "[door=fuel]", "door fuel, reader outside, opens yard", ""),
        (How.EDITED, "[door=slipway]/reader", "both", "outside"),
    ]
    ini = "[net]\nmtu = 1500\ndns=a\n\n; remark\n[log]\nlevel = 3\n"
    assert _changes(ini, "[log]\nlevel=4\n[net]\ndns = a\nmtu=1500\n", "x.ini") == [
        (How.EDITED, "[log] level", "3", "4"),
        (How.EDITED, "[net]", "", "order of names"),
    ]


@pytest.mark.parametrize("broken", ["<a><b></a>", '{"a": 1', "[" * 100_000, '<!DOCTYPE a [<!ENTITY x "y">]><a>&x;</a>'])
def test_what_is_no_document_is_compared_as_text(broken: str) -> None:
    (change,) = _changed(broken, broken + "\nmore of it\n")
    assert not change.structured
    assert change.added >= 1


# ---- trees and archives -----------------------------------------------------------------------------------------------


def _tar(files: dict[str, bytes], at: int, mode: int = 0o644) -> bytes:
    made = io.BytesIO()
    with tarfile.open(fileobj=made, mode="w:gz") as archive:
        for name, content in files.items():
            member = tarfile.TarInfo(name)
            member.size, member.mtime, member.mode = len(content), at, mode
            archive.addfile(member, io.BytesIO(content))
    return made.getvalue()


def _zip(files: dict[str, bytes], at: int, mode: int = 0o644) -> bytes:
    made = io.BytesIO()
    with zipfile.ZipFile(made, "w") as archive:
        for name, content in files.items():
            member = zipfile.ZipInfo(name, (2020 + at, 1, 1, 0, 0, 0))
            member.external_attr = mode << 16
            archive.writestr(member, content)
    return made.getvalue()


@pytest.mark.parametrize("pack", [_tar, _zip])
def test_archives_are_looked_into(pack: Callable[..., bytes]) -> None:
    text = b"".join(b"a line of some length %d\n" % n for n in range(20))
    before = {"etc/a.conf": text, "etc/b.json": b'{"x": 1}', "gone": b"g\n", "blob": b"\0\1"}
    after = {"etc/z.conf": text + b"more\n", "etc/b.json": b'{ "x": 2 }', "blob": b"\0\2", "new": b"n\n"}
    assert compare_exports({"b.bin": pack(before, 1)}, {"b.bin": pack(before, 5)}, _MASKS) == [], "only times differ"
    found = {part.name: part for part in compare_exports({"b.bin": pack(before, 1)}, {"b.bin": pack(after, 5)}, _MASKS)}
    assert {name: part.kind for name, part in found.items()} == {
        "b.bin/blob": Kind.BINARY,
        "b.bin/etc/b.json": Kind.EDITED,
        "b.bin/etc/z.conf": Kind.RENAMED,
        "b.bin/gone": Kind.REMOVED,
        "b.bin/new": Kind.ADDED,
    }
    assert found["b.bin/etc/z.conf"].was == "b.bin/etc/a.conf"
    assert found["b.bin/etc/b.json"].changes == [Change(How.EDITED, "/x", "1", "2")]
    assert found["b.bin/etc/z.conf"].changes[0] == Change(How.EDITED, "name", "b.bin/etc/a.conf", "b.bin/etc/z.conf")
    (modes,) = compare_exports({"b.bin": pack(before, 1)}, {"b.bin": pack(before, 1, 0o600)}, _MASKS)
    assert modes.name == "b.bin.tree"
    assert Change(How.EDITED, "gone (mode)", "-rw-r--r--", "-rw-------") in modes.changes


def test_a_folder_of_thousands_of_files_is_renamed_in_no_time() -> None:
    before = {f"a/{n}": b"file %d\n" % (n // 2) for n in range(8000)}
    after = {f"b/{n}": content for n, content in enumerate(before.values())}
    found = compare_exports(before, after, _MASKS)
    assert len(found) == 8000
    assert all(part.kind is Kind.RENAMED and not part.edits for part in found)


def test_archives_that_would_burst_or_are_damaged_stay_closed() -> None:
    bomb = _tar({"zeros": bytes(40_000_000)}, 1)
    (change,) = compare_exports({"b": bomb}, {"b": bomb[:-9] + b"123456789"}, _MASKS)
    assert (change.name, change.kind) == ("b", Kind.BINARY)
    names = _tar({"../../etc/passwd": b"x", "/abs": b"y"}, 1)
    found = compare_exports({"b": names}, {"b": _tar({"../../etc/passwd": b"z", "/abs": b"y"}, 1)}, _MASKS)
    assert [part.name for part in found] == ["b/etc/passwd"]


@pytest.mark.parametrize(
    ("old", "new", "words"),
    [
        ("a\n  mtu 1500\nb\n", "a\n    mtu 1500\nb\n", "only its indentation"),
        ("a\nmtu 1500\nb\n", "a\nmtu  1500\nb\n", "only blanks between its words"),
        ("a\nmtu 1500\nb\n", "a\nmtu 1500\r\nb\n", "only its line end"),
        ("a\nmtu 1500\nb\n", "a\nmtu 1500 \nb\n", "only blanks at its end"),
    ],
)
def test_an_edit_of_white_space_alone_is_told_in_words(old: str, new: str, words: str) -> None:
    ((how, path, before, after),) = _changes(old, new)
    assert (how, before, after) == ("edited", "", words)
    assert path.endswith("mtu 1500")


@pytest.mark.parametrize(
    ("old", "new", "told"),
    [
        ("a=1\nb=2\n", "a=1\nb=3\n", ("edited", "b", "2", "3")),
        ("net.x = 0\n# y\n", "net.x = 1\n# y\n", ("edited", "net.x", "0", "1")),
        (
            "p1\n  mtu 1\n# note\n  speed 10\np2\n  mtu 1\n",
            "p1\n  mtu 1\n# note\n  speed 99\np2\n  mtu 1\n",
            ("edited", "p1 / speed", "10", "99"),
        ),
        (
            "*nat\n-A X -j Y\nCOMMIT\n*filter\n-A IN --dport 80\nCOMMIT\n",
            "*nat\n-A X -j Y\nCOMMIT\n*filter\n-A IN --dport 81\nCOMMIT\n",
            ("edited", "*filter / -A IN --dport", "80", "81"),
        ),
        ("port p1\n  mtu 1\n# of p2\nport p2\n  mtu 2\n", "port p1\n  mtu 1\n", ("removed", "", "port p2", "")),
        (
            "server {\n  server_name s1;\n  root /a;\n}\nserver {\n  server_name s2;\n  root /a;\n}\n",
            "server {\n  server_name s1;\n  root /a;\n}\nserver {\n  server_name s2;\n  root /b;\n}\n",
            ("edited", "server (server_name s2) / root", "/a", "/b"),
        ),
    ],
)
def test_what_heads_and_names_an_edit(old: str, new: str, told: tuple[str, str, str, str]) -> None:
    assert _changes(old, new) == [told]


def test_a_text_that_is_another_or_only_reordered_is_told_as_a_whole() -> None:
    lines = [f"rule {number} permit berth-{number}" for number in range(40)]
    reordered = [*lines[20:], *lines[:20]]
    random.Random(1).shuffle(reordered)
    ((_, path, before, after),) = _changes("\n".join([*lines, ""]), "\n".join([*reordered, ""]))
    assert (path, before) == ("", "")
    assert after.startswith("only the order of its lines: ")
    other = "".join(f"host h{number} {{\n}}\n" for number in range(30))
    assert _changes("\n".join([*lines, ""]), other) == [
        ("edited", "", "40 lines", "60 lines, a different file"),
    ]


def test_binary_parts_are_told_by_size_and_digest() -> None:
    (part,) = compare_exports({"f": b"\0" * 10}, {"f": b"\0" * 2000}, _MASKS)
    assert part.changes[0].words.startswith("10 B, SHA-256 01d448afd928065458cf670b"[:25])


def test_readable_texts_in_binary_parts_are_told_when_they_are_few_and_may_be_seen() -> None:
    old, new = b"\0\1version 10.0.1\0\2password CANARY1\0", b"\0\1version 10.0.2\0\2password CANARY1\0"
    (part,) = compare_exports({"f": old}, {"f": new}, _MASKS)
    assert len(part.changes) == 1, "which of them are secrets nobody can tell"
    shown = Masks(reveal=True)
    (part,) = compare_exports({"f": old}, {"f": new}, shown)
    assert [(one.how, one.words) for one in part.changes[1:]] == [
        (How.REMOVED, "version 10.0.1"),
        (How.ADDED, "version 10.0.2"),
    ]
    noise = [bytes(random.Random(seed).randbytes(20_000)) for seed in (1, 2)]
    (part,) = compare_exports({"f": b"\0" + noise[0]}, {"f": b"\0" + noise[1]}, shown)
    assert len(part.changes) == 1


def test_secrets_in_changes_are_masked_everywhere() -> None:
    json_text = '{"users": [{"name": "x", "password": "CANARY-1"}], "token": 12345678}'
    for name, old, new in (
        ("p", "user x\n  password CANARY-1\n", "user x\n  password CANARY-2\n"),
        ("p.xml", "<c><password>CANARY-1</password></c>", "<c><password>CANARY-2</password></c>"),
        ("p.json", json_text, json_text.replace("CANARY-1", "CANARY-2").replace("12345678", "87654321")),
        ("p.ini", "[a]\npassword = CANARY-1\n", "[a]\npassword = CANARY-2\n"),
    ):
        told = repr(_changes(old, new, name))
        assert "CANARY" not in told
        assert "8765" not in told
        assert "[secret " in told


# ---- the same only by a reading that loses nothing --------------------------------------------------------------------


@pytest.mark.parametrize(
    ("name", "old", "new"),
    [
        (
            "a.conf",
            "[net]\nmtu = 1\n[log]\nlevel = 2\n[net]\nttl = 3\n",
            "[net]\nmtu = 1\nttl = 3\n[log]\nlevel = 2\n[net]\n",
        ),
        (
            "a.conf",
            "[net]\nmtu = 1\nipv6\n[log]\na = 1\nb = 2\nc = 3\nd = 4\ne = 5\nf = 6\n",
            "[net]\nmtu = 1\nipv4\n[log]\na = 1\nb = 2\nc = 3\nd = 4\ne = 5\nf = 6\n",
        ),
        ("a.xml", "<r><permit/><deny/></r>", "<r><deny/><permit/></r>"),
        (
            "a.toml",
            "[[peer]]\nname = 'a'\nkey = 1\n[[peer]]\nname = 'b'\n",
            "[[peer]]\nname = 'a'\n[[peer]]\nname = 'b'\nkey = 1\n",
        ),
        ("a.xml", "<r><?mode fast?><a/></r>", "<r><?mode slow?><a/></r>"),
        ("a.xml", "<r>one<b/>two</r>", "<r>one two<b/></r>"),
        ("a.xml", '<!DOCTYPE r [<!ENTITY e "1">]><r>&e;</r>', '<!DOCTYPE r [<!ENTITY e "2">]><r>&e;</r>'),
        ("a.json", '{"a": 1, "a": 2}', '{"a": 3, "a": 2}'),
        ("a.json", '{"serial": 12345678901234567890.123}', '{"serial": 12345678901234567890.124}'),
        ("a.json", '{"serial": 12345678901234567890}', '{"serial": 12345678901234567891}'),
        ("a.conf", "[a]\nlist = x\n  y = 1\n", "[a]\nlist = x\ny = 1\n"),
        ("a.conf", "[a]\nx = 1\ny = 2\n", "[a]\nx : 1\ny : 2\n"),
        ("a.csv", "a,b\n1,\n2,3\n", "a,b\n1\n2,3\n"),
    ],
    ids=[
        "a key to another section of one name",
        "a flag without a value",
        "rules of two names swapped",
        "a setting to another table of an array",
        "a processing instruction",
        "where a text stands",
        "an entity",
        "a name that stands twice",
        "digits beyond a double",
        "a large number",
        "a line that went on",
        "another sign",
        "a cell that went",
    ],
)
def test_what_a_tree_does_not_keep_is_told_as_lines(name: str, old: str, new: str) -> None:
    for one, other in ((old, new), (new, old)):
        (change,) = _changed(one, other, name)
        assert change.edits
        assert change.changes, "told, and not only counted"


@pytest.mark.parametrize(
    ("name", "old", "new"),
    [
        (
            "a.xml",
            "<r a='1' b='2'><x/>\n <y>t</y></r>",
            '<?xml version="1.0"?><!-- by hand --><r b="2" a="1"><x></x><y>t</y></r>',
        ),
        ("a.json", '{"a": 1, "b": [1, 2.50]}', '{\n "b": [1, 2.5],\n "a": 1}'),
        ("a.conf", "[a]\nx = 1\ny = 2\n[b]\nz = 3\n", "# moved\n[b]\nz=3\n\n[a]\nx = 1\ny = 2\n"),
    ],
)
def test_what_its_format_calls_insignificant_is_no_change(name: str, old: str, new: str) -> None:
    assert _changed(old, new, name) == []


_TAGS = st.sampled_from(["permit", "deny", "log"])
_ELEMENT = st.recursive(
    st.builds(lambda tag, text: f"<{tag}>{text}</{tag}>", _TAGS, st.sampled_from(["", "1", "2", " 3"])),
    lambda inner: st.builds(
        lambda tag, items: f"<{tag}>{''.join(items)}</{tag}>", _TAGS, st.lists(inner, min_size=1, max_size=4)
    ),
    max_leaves=8,
)


@given(st.lists(_ELEMENT, min_size=2, max_size=6), st.data())
@settings(max_examples=200)
def test_whatever_is_swapped_removed_or_altered_in_xml_is_told(items: list[str], data: st.DataObject) -> None:
    at, to = data.draw(st.integers(0, len(items) - 1)), data.draw(st.integers(0, len(items) - 1))
    changed = list(items)
    match data.draw(st.sampled_from(["swap", "remove", "alter", "instruct"])):
        case "swap":
            changed[at], changed[to] = items[to], items[at]
        case "remove":
            del changed[at]
        case "alter":
            changed[at] = items[at].replace(">", ">9", 1)
        case _:
            changed.insert(at, "<?mode fast?>")
    old, new = (f"<rules>\n{chr(10).join(one)}\n</rules>" for one in (items, changed))
    assert bool(_changed(old, new, "r.xml")) == (items != changed)


_KEYS_OF_INI = st.sampled_from(["mtu", "ttl", "dns"])
_INI_LINE = st.one_of(
    st.sampled_from(["[net]", "[log]", "flag", "other"]), st.builds("{} = {}".format, _KEYS_OF_INI, st.integers(0, 2))
)


@given(st.lists(_INI_LINE, min_size=1, max_size=9), st.data())
@settings(max_examples=200)
def test_whatever_is_moved_to_another_section_or_altered_is_told(lines: list[str], data: st.DataObject) -> None:
    """Compared with a reading of its own: each line with its section and which of that name it is."""
    lines = ["[net]", *lines]
    changed = list(lines)
    line = changed.pop(data.draw(st.integers(1, len(lines) - 1)))
    changed.insert(data.draw(st.integers(1, len(changed))), line)

    def settings_of(text: list[str]) -> list[tuple[str, str]]:
        section, seen, found = "", 0, []
        for one in text:
            section, seen = (one, seen + 1) if one[0] == "[" else (section, seen)
            found.append((section, one))
        return found

    same_sections = sorted(settings_of(lines)) == sorted(settings_of(changed))
    unique = len({one for one in lines if one[0] == "["}) == sum(one[0] == "[" for one in lines)
    told = bool(_changed("\n".join(lines) + "\n", "\n".join(changed) + "\n", "x.conf"))
    if lines != changed and not (same_sections and unique):
        assert told


def test_order_may_mean_nothing_in_one_list_of_whole_paths() -> None:
    rules = [f"set access-list edge permit tcp 10.0.{n}.0/24\n" for n in range(6)]
    servers = [f"set system ntp server 10.9.0.{n}\n" for n in range(6)]
    masks = Masks(key=b"k", unordered=[Pattern.parse("^set access-list edge")])
    old = "".join([*rules, *servers]).encode()
    assert compare_exports({"a": old}, {"a": "".join([*reversed(rules), *servers]).encode()}, masks) == []
    assert compare_exports({"a": old}, {"a": "".join([*rules, *reversed(servers)]).encode()}, masks)


# ---- archives in archives, folders with dates, texts in UTF-16 --------------------------------------------------------


def _packed(members: dict[str, bytes]) -> bytes:
    made = BytesIO()
    with tarfile.open(fileobj=made, mode="w:gz") as archive:
        for name, content in members.items():
            one = tarfile.TarInfo(name)
            one.size = len(content)
            archive.addfile(one, BytesIO(content))
    return made.getvalue()


def test_archives_in_archives_are_looked_into() -> None:
    old, new = (_packed({"all/inner.tgz": _packed({"etc/x.cfg": b"mtu %d\nup\n" % mtu})}) for mtu in (1500, 9000))
    (change,) = compare_exports({"a.tgz": old}, {"a.tgz": new}, Masks(key=b"k"))
    assert change.name == "a.tgz/all/inner.tgz/etc/x.cfg"
    assert [one.words for one in change.changes] == ["1500 → 9000"]


def test_a_folder_with_another_date_is_told_once() -> None:
    def export(day: str, mtu: int) -> bytes:
        return _packed({f"backup-{day}/{n}.cfg": b"file %d\nmtu %d\n" % (n, mtu if n == 7 else 1) for n in range(40)})

    changes = compare_exports(
        {"a.tgz": export("2026-11-25", 1500)}, {"a.tgz": export("2026-11-26", 9000)}, Masks(key=b"k")
    )
    told = {one.name: [change.words for change in one.changes] for one in changes}
    assert told == {
        "a.tgz/backup-2026-11-26": ["a.tgz/backup-2026-11-25 → a.tgz/backup-2026-11-26"],
        "a.tgz/backup-2026-11-26/7.cfg": ["1500 → 9000"],
    }
    (alone,) = compare_exports({"a.tgz": export("2026-11-25", 1)}, {"a.tgz": export("2026-11-26", 1)}, Masks(key=b"k"))
    assert alone.was == "a.tgz/backup-2026-11-25"
    other = compare_exports({"a.tgz": _packed({"x1/a": b"1\n"})}, {"a.tgz": _packed({"y2/a": b"1\n"})}, Masks(key=b"k"))
    assert "a.tgz/y2/a" in {one.name for one in other}


@pytest.mark.parametrize("encoding", ["utf-16-le", "utf-16-be"])
def test_texts_in_utf_16_are_read(encoding: str) -> None:
    mark = "\ufeff".encode(encoding)
    old, new = (mark + f"[net]\r\nmtu={mtu}\r\nname=Kåre\r\n".encode(encoding) for mtu in (1500, 9000))
    (change,) = compare_exports({"a.reg": old}, {"a.reg": new}, Masks(key=b"k"))
    assert [(one.path, one.words) for one in change.changes] == [("[net] mtu", "1500 → 9000")]
    hidden = mark + "password=tide-table-9\r\n".encode(encoding)
    (secret,) = compare_exports({"a": old}, {"a": hidden}, Masks(key=b"k"))
    assert "tide-table" not in str([one.words for one in secret.changes])


def test_the_same_text_in_another_encoding_is_not_the_same() -> None:
    old, new = ("\ufeffmtu 1500\n".encode(one) for one in ("utf-16-le", "utf-16-be"))
    assert len(compare_exports({"a": old}, {"a": new}, Masks(key=b"k"))) == 1


def test_many_sections_edited_alike_are_one_line_with_a_count_in_the_letter() -> None:
    old = "".join(f"interface port-{n}\n  mtu 1500\n" for n in range(2000))
    changes = compare_exports({"a": old.encode()}, {"a": old.replace("mtu 1500", "mtu 9000").encode()}, Masks(key=b"k"))
    assert [one.text for one in changed_lines(changes, Reader([]))] == [
        "~ interface port-0 / mtu: 1500 → 9000",
        "~ interface port-1 / mtu: 1500 → 9000; and 1,998 more like it, at other places",
    ]
