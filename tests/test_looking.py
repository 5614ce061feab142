"""The commands that look across versions and sources: changes, find, trace, noise, expect, and the forms of diff."""

import json
import re
import subprocess
from html.parser import HTMLParser
from pathlib import Path

import pexpect
import pytest

from tests.conftest import PROGRAM, EstateFolder, historon, needs_patch
from tests.store_model import BY_HAND

HEAD = """
[estate]
name = "Test"
time_zone = "Europe/Oslo"
[procedures.files]
over = "local"
steps = [{ pull = "{path}", as = "active.cfg" }]
noise = ['^! saved at ']
"""
SOURCE = """
[[sources]]
name = "{name}"
procedure = "files"
values = {{ path = "data/{name}" }}
labels = {{ site = "{site}", role = "edge" }}
"""
NAMES = {"edge-1": "north", "edge-2": "south", "edge-3": "south", "edge-4": "south"}


def _text(number: int) -> str:
    ports = "".join(
        f"interface port-{n}\n  description berth {n}\n  address 10.{number}.{n}.1/30\n  no shutdown\n!\n"
        for n in range(1, 9)
    )
    secret = f"snmp community CANARY-{number} ro\n"
    return f"hostname edge-{number}\n! saved at 1\ntime-server 10.0.0.9\n{secret}{ports}acl outside\n  deny any\nend\n"


@pytest.fixture
def edges(estate: EstateFolder) -> EstateFolder:
    """Four sources of one kind, collected once; `edit` changes them."""
    estate.write(HEAD + "".join(SOURCE.format(name=name, site=site) for name, site in NAMES.items()))
    (estate.path / "data").mkdir()
    for number in range(1, 5):
        (estate.path / "data" / f"edge-{number}").write_text(_text(number))
    assert estate.run("collect").code == 0
    return estate


def _edit(estate: EstateFolder, old: str, new: str, *numbers: int) -> None:
    for number in numbers or range(1, 5):
        file = estate.path / "data" / f"edge-{number}"
        text = file.read_text()
        assert old in text
        file.write_text(text.replace(old, new, 1))


def _terminal(estate: EstateFolder, *arguments: str, columns: int = 120) -> tuple[int | None, str]:
    child = pexpect.spawn(
        str(PROGRAM),
        list(arguments),
        cwd=str(estate.path),
        dimensions=(50, columns),
        encoding="utf-8",
        env={"TERM": "xterm-256color", "PATH": "/usr/bin:/bin"},
    )
    child.expect(pexpect.EOF)
    child.close()
    return child.exitstatus, re.sub(r"\x1b\[[0-9;?]*[A-Za-z]", "", str(child.before)).replace("\r", "")


# ---- changes ----------------------------------------------------------------------------------------------------------


def test_equal_edits_are_one_family_and_grave_ones_come_first(edges: EstateFolder) -> None:
    _edit(edges, "time-server 10.0.0.9", "time-server 10.0.0.11")
    edges.run("collect")
    _edit(edges, "description berth 3", "description berth 3 north", 2)
    edges.run("collect")
    _edit(edges, "  deny any", "  permit any 10.3.0.0/24\n  deny any", 3)
    _edit(edges, "  deny any", "  permit any 10.4.0.0/24\n  deny any", 4)
    edges.run("collect")
    data = edges.run("changes", "--json").rows
    told = [
        ([one["source"] for one in family["members"]], [change["path"] for change in family["forms"][0]["changes"]])
        for family in data
    ]
    assert told == [
        (["edge-3", "edge-4"], ["acl outside"]),
        (["edge-1", "edge-2", "edge-3", "edge-4"], ["time-server"]),
        (["edge-2"], ["interface port-3 / description"]),
    ]
    assert [family["own"] for family in data] == [True, False, False]
    plain = edges.run("changes").out
    assert "7 changed versions of 4 sources in 3 families in the last 7 days" in plain
    closer = edges.run("changes", data[0]["handle"]).out
    assert "permit any 10.3.0.0/24" in closer
    assert "permit any 10.4.0.0/24" in closer
    assert "historon diff edge-" in closer
    assert len(edges.run("changes", "--json", "--where", "site=north").rows) == 1
    assert "north\n" in edges.run("changes", "--by", "site").out
    assert re.search(r"^\d{4}-\d\d-\d\d$", edges.run("changes", "--by", "day").out, re.MULTILINE)


def test_a_notice_tells_equal_edits_once(edges: EstateFolder) -> None:
    file = edges.path / "historon.toml"
    file.write_text(file.read_text() + '[channels.c]\nkind = "file"\npath = "told"\n')
    _edit(edges, "time-server 10.0.0.9", "time-server 10.0.0.11")
    _edit(edges, "  deny any", "  permit all\n  deny any", 2)
    edges.run("collect")
    text = json.loads((edges.path / "told").read_text())["text"]
    assert (
        "edge-1, edge-2, edge-3, edge-4: the same on 4 sources\n    active.cfg\n    ~ time-server: 10.0.0.9 → 10.0.0.11\n"
        in text
    )
    assert "edge-2: version 2, +2 -1 lines\n    active.cfg\n    + acl outside: permit all (permits any)\n" in text
    assert text.count("time-server") == 1
    assert "CANARY" not in text


def test_changes_in_wrong_words_are_refused(edges: EstateFolder) -> None:
    assert "no change recorded in the last 7 days" in edges.run("changes").out
    for arguments, said in (
        (("zzzz",), 'no family "zzzz" among the changes since 7d'),
        (("--since", "soon"), "--since soon"),
        (("--by", "colour"), 'no source has the label "colour"'),
        (("--where", "site"), "--where site"),
    ):
        result = edges.run("changes", *arguments)
        assert result.code == 2
        assert said in result.err


def test_versions_of_an_older_ledger_are_looked_at(edges: EstateFolder) -> None:
    _edit(edges, "time-server 10.0.0.9", "time-server 10.0.0.11")
    edges.run("collect")
    told = edges.run("changes").out
    store = edges.store()
    store._db.execute("UPDATE version SET families = NULL")
    store._db.execute("UPDATE meta SET value = (SELECT max(at) FROM version) WHERE name = 'families_after'")
    store.close()
    assert edges.run("changes").out == told


def test_families_do_not_break_when_versions_are_pruned(edges: EstateFolder) -> None:
    for n in range(3):
        _edit(edges, "  deny any", f"  deny host 10.9.9.{n}\n  deny any", 1)
        edges.run("collect")
    store = edges.store()
    store.remove([version for version in store.versions("edge-1") if version.number in (2, 3)], BY_HAND)
    store.close()
    assert edges.run("changes").code == 0
    assert len(edges.run("changes", "--json").rows) == 1


# ---- find and trace ---------------------------------------------------------------------------------------------------


def _found(estate: EstateFolder, *arguments: str) -> list[tuple[str, str, str]]:
    data = estate.run("find", "--json", *arguments).rows
    return [(one["source"], one["path"], one["line"]) for one in data]


@pytest.mark.parametrize("index", ["true", "false"])
def test_a_text_is_found_now_then_and_ever(edges: EstateFolder, index: str) -> None:
    file = edges.path / "historon.toml"
    file.write_text(file.read_text().replace("[procedures", f"index = {index}\n[procedures", 1))
    _edit(edges, "description berth 5", "description Weighbridge", 2)
    edges.run("collect")
    _edit(edges, "description Weighbridge", "description berth 5", 2)
    _edit(edges, "! saved at 1", "! saved at never-before", 2)
    _edit(edges, "  deny any", "  deny all", 3)
    edges.run("collect")
    assert _found(edges, "weighbridge") == []
    assert _found(edges, "weighbridge", "--at", "1d") == []
    (ever,) = edges.run("find", "WEIGHbridge", "--ever", "--json").rows
    assert (ever["path"], ever["added_in"]["version"], ever["removed_in"]["version"]) == ("interface port-5", 2, 3)
    assert _found(edges, "WEIGHbridge", "--ever", "--exact-case") == []
    assert _found(edges, "never-before") == [("edge-2", "", "! saved at never-before")], "noise is text too"
    assert _found(edges, "deny all") == [("edge-3", "acl outside", "deny all")]
    assert _found(edges, "-e", r"^\s+deny a..$", "--where", "site=south") == [
        ("edge-2", "acl outside", "deny any"),
        ("edge-3", "acl outside", "deny all"),
        ("edge-4", "acl outside", "deny any"),
    ]
    assert len(_found(edges, "-e", r"berth [1-3]$")) == 12
    plain = edges.run("find", "no shutdown").out
    assert "32 lines in 4 of 4 sources" in plain
    assert "interface port-1  no shutdown" in plain
    assert "is in none of 4 sources" in edges.run("find", "nothing like it").out


def test_archives_are_searched_and_what_is_not_one_line_is_refused(files_estate: EstateFolder) -> None:
    data = files_estate.path / "data"
    (data / "inner.conf").write_text("pool quay\n  member deep-inside\n")
    subprocess.run(["tar", "czf", "all.tgz", "inner.conf"], cwd=data, check=True)
    (data / "inner.conf").unlink()
    files_estate.run("collect")
    (hit,) = files_estate.run("find", "deep-inside", "--json").rows
    assert (hit["part"], hit["path"]) == ("data/all.tgz/inner.conf", "pool quay")
    assert files_estate.run("find", "-e", "(").code == 2
    assert files_estate.run("find", "").code == 2
    assert files_estate.run("find", "x", "--ever", "--at", "1d").code == 2
    assert files_estate.run("trace", "nobody", "x").code == 2


def test_a_line_is_traced_to_its_beginning(edges: EstateFolder) -> None:
    for old, new in (("berth 3", "berth 33"), ("berth 33", "berth 333"), ("  deny any", "  permit gone\n  deny any")):
        _edit(edges, old, new, 1)
        edges.run("collect")
    _edit(edges, "  permit gone\n", "", 1)
    edges.run("collect")
    (life,) = edges.run("trace", "edge-1", "berth 333", "--json").rows
    assert life["present"]
    assert [(event["version"], event["how"], event["old"], event["new"]) for event in life["events"]] == [
        (3, "edited", "berth 33", "berth 333"),
        (2, "edited", "berth 3", "berth 33"),
        (1, "added", "", "description berth 3"),
    ]
    (gone,) = edges.run("trace", "edge-1", "permit gone", "--json").rows
    assert [(event["version"], event["how"]) for event in gone["events"]] == [(5, "removed"), (4, "added")]
    said = edges.run("trace", "edge-1", "berth 333").out
    assert "edited: berth 33 → berth 333" in said
    assert "present as description berth 3 since the first version" in said
    assert "is in none of 5 good versions" in edges.run("trace", "edge-1", "never there").out


# ---- noise ------------------------------------------------------------------------------------------------------------


def test_noise_is_found_with_its_evidence_and_written_where_it_belongs(edges: EstateFolder) -> None:
    for night in range(2, 8):
        _edit(edges, f"! saved at {night - 1}", f"! saved at {night}", 1)
        text = (edges.path / "data" / "edge-1").read_text()
        text = re.sub(r"uptime.*\n", "", text) + f"uptime {night * 24} hours hash x{night}yz{night * 7}\n"
        (edges.path / "data" / "edge-1").write_text(text)
        if night == 4:
            _edit(edges, "  deny any", "  permit b\n  deny any", 1)
        edges.run("collect")
    (proposal,) = edges.run("noise", "edge-1", "--json").rows
    assert proposal["rule"] == r"^uptime (\d+) hours hash (\S+)$"
    assert (proposal["differed"], proposal["steps"], proposal["alone"]) == (5, 6, 4)
    before = (edges.path / "historon.toml").read_text()
    assert "historon noise edge-1 --take all" in edges.run("noise", "edge-1").out
    assert (edges.path / "historon.toml").read_text() == before
    assert edges.run("noise", "edge-1", "--take", "2").code == 2
    assert "1 mask added to the procedure files in historon.toml" in edges.run("noise", "edge-1", "--take", "1").out
    assert "no further noise found in 7 good versions of edge-1 (2 masks in force)" in edges.run("noise", "edge-1").out
    _edit(edges, "uptime 168", "uptime 999", 1)
    assert "unchanged" in edges.run("collect", "edge-1").out
    assert "too early: edge-2 has 1 good version, noise needs 4" in edges.run("noise", "edge-2").out


# ---- requirements -----------------------------------------------------------------------------------------------------

REQUIRED = """
[[requirements]]
name = "clock"
must = ['^time-server 10\\.0\\.0\\.11$']
why = "the old clock goes away"
[[requirements]]
name = "ports are up"
each = '^interface port-[12]$'
where = { site = "south" }
must = [' / no shutdown$']
must_not = ['/ mtu', 'CANARY']
"""


def test_requirements_fail_and_are_met_again_and_are_told_once(edges: EstateFolder) -> None:
    assert "no requirement is set" in edges.run("requirements").out
    file = edges.path / "historon.toml"
    file.write_text(file.read_text() + REQUIRED)
    result = edges.run("requirements", "--json")
    assert result.code == 1
    assert [len(one["not_met"]) for one in result.rows] == [1, 1, 1, 1]
    told = edges.run("collect").said
    assert told.count("a requirement is not met") == 4, "rules that are new are checked though nothing changed"
    assert "clock: lacks ^time-server 10\\.0\\.0\\.11$ (the old clock goes away)" in told
    assert "a requirement is not met" not in edges.run("collect").said
    _edit(edges, "time-server 10.0.0.9", "time-server 10.0.0.11")
    _edit(edges, "  no shutdown", "  shutdown\n  mtu 9000", 2)
    again = edges.run("collect")
    assert again.code == 0
    assert again.said.count("meets again: clock") == 4
    assert "ports are up: lacks  / no shutdown$ in interface port-1" in again.err
    assert "ports are up: has interface port-1 / mtu 9000" in again.err
    (data,) = edges.run("requirements", "edge-2", "--json").rows
    assert [one["requirement"] for one in data["not_met"]] == ["ports are up"] * 2
    assert "1 of 4 sources does not meet its requirements" in edges.run("requirements").out


@pytest.mark.parametrize(
    ("rule", "said"),
    [
        ('name = "x"', "requires nothing"),
        ('name = "x"\nmust = ["("]', "not a regular expression"),
        ('name = "x"\nmust = ["a"]\nwhere = { sit = "south" }', 'no source has the label "sit" (did you mean "site"?)'),
        ('name = "x"\nmust = ["a"]\nprocedure = "file"', 'there is no "file"'),
        ('name = "x"\nmust = ["a"]\n[[requirements]]\nname = "x"\nmust = ["b"]', 'a second requirement is named "x"'),
    ],
)
def test_wrong_requirements_are_refused(edges: EstateFolder, rule: str, said: str) -> None:
    file = edges.path / "historon.toml"
    file.write_text(file.read_text() + "\n[[requirements]]\n" + rule)
    result = edges.run("requirements")
    assert result.code == 4
    assert said in result.err


# ---- forms of diff ----------------------------------------------------------------------------------------------------


class _Page(HTMLParser):
    def __init__(self) -> None:
        super().__init__()
        self.text = ""
        self.outside: list[str] = []

    def handle_data(self, data: str) -> None:
        self.text += data

    def handle_starttag(self, tag: str, attrs: list[tuple[str, str | None]]) -> None:
        self.outside += [str(value) for name, value in attrs if name in ("src", "href")] + [tag] * (tag == "script")


def test_a_page_is_whole_and_harmless(edges: EstateFolder) -> None:
    _edit(edges, "berth 3", "berth <script>alert(1)</script>\x1b[2J 3", 1)
    edges.run("collect")
    result = edges.run("diff", "edge-1", "--form", "html")
    assert result.code == 1
    page = _Page()
    page.feed(result.out)
    assert page.outside == []
    assert "berth <script>alert(1)</script>·[2J 3" in page.text
    assert "interface port-3 / description" in page.text
    assert "\x1b" not in result.out


def test_side_by_side_needs_room(edges: EstateFolder) -> None:
    _edit(edges, "description berth 3", "description berth three", 1)
    _edit(edges, "  no shutdown", "  shutdown\n  mtu 9000", 1)
    edges.run("collect")
    code, out = _terminal(edges, "diff", "edge-1", "--form", "side", columns=140)
    assert code == 1
    assert re.search(r"description berth 3 +\d+ +description berth three", out)
    assert re.search(r"no shutdown +\d+ +shutdown", out)
    assert re.search(r"^ {20,}\d+ +mtu 9000", out, re.MULTILINE)
    code, out = _terminal(edges, "diff", "edge-1", "--form", "side", columns=80)
    assert code == 2
    assert "80 columns are too narrow" in out


@pytest.mark.parametrize(("columns", "widest"), [("", 80), ("120", 120)])
def test_a_piped_side_by_side_is_as_wide_as_its_text_or_as_columns_say(
    edges: EstateFolder, columns: str, widest: int
) -> None:
    _edit(edges, "description berth 3", "description berth three", 1)
    edges.run("collect")
    out = edges.run("diff", "edge-1", "--form", "side", COLUMNS=columns).out
    assert re.search(r"description berth 3 +\d+ +description berth three", out)
    assert max(map(len, out.splitlines())) <= widest
    refused = edges.run("diff", "edge-1", "--form", "side", COLUMNS="60")
    assert refused.code == 2
    assert "60 columns are too narrow" in refused.err


def test_versions_rounds_noise_and_doctor_take_some_of_the_sources(edges: EstateFolder) -> None:
    south = ["edge-2", "edge-3", "edge-4"]
    assert sorted(row["source"] for row in edges.run("versions", "--where", "site=south", "--json").rows) == south
    listed = edges.run("versions", "--where", "site=south").out
    assert "3 sources: 3 versions" in listed
    assert "edge-4@1" in listed
    assert "edge-1" not in listed
    assert edges.run("rounds", "--where", "site=south", "--json").rows[0]["outcomes"]["new"] == len(south)
    assert [row["source"] for row in edges.run("rounds", "1", "--where", "site=north", "--json").rows] == ["edge-1"]
    assert edges.run("rounds", "9", "--where", "site=north").code == 2
    assert "3 sources" in edges.run("noise", "--where", "site=south").out
    assert edges.run("noise", "--where", "site=south", "--take", "1").code == 2
    assert edges.run("versions").code == edges.run("noise").code == 2
    findings = edges.run("doctor", "--where", "site=north", "--json")
    assert findings.data["headline"].startswith("1 source, 1 procedure:")
    assert {row["about"] for row in findings.rows} == {"edge-1"}


@needs_patch
def test_only_some_of_it(edges: EstateFolder, tmp_path: Path) -> None:
    _edit(edges, "description berth 3", "description berth three", 1)
    _edit(edges, "  deny any", "  permit a\n  deny any", 1)
    edges.run("collect")
    diff = edges.run("diff", "edge-1", "--only", "acl outside").out
    assert re.findall(r"^[-+] .*", diff, re.MULTILINE) == ["+  permit a"]
    (tmp_path / "f").write_text(_text(1))
    subprocess.run(["patch", "-s", "f"], cwd=tmp_path, input=diff.replace("[secret", "["), text=True, check=True)
    assert (tmp_path / "f").read_text() == _text(1).replace("  deny any", "  permit a\n  deny any")
    outline = edges.run("diff", "edge-1", "--only", "interface port-3", "--form", "outline").out
    assert "interface port-3 / description  berth 3 → berth three" in outline
    assert "permit" not in outline
    assert edges.run("diff", "edge-1", "--only", "interface port-77").code == 2
    assert edges.run("diff", "edge-1", "--only", "active.cfg").code == 1


def test_the_odd_ones_out(edges: EstateFolder) -> None:
    _edit(edges, "time-server 10.0.0.9", "time-server 10.0.0.9\ntelnet on", 3)
    _edit(edges, "  deny any", "  allow some", 4)
    edges.run("collect")
    result = edges.run("diff", "--where", "role=edge", "--json")
    assert result.code == 1
    assert result.data["typical"] in ("edge-1", "edge-2")
    odd = {one["source"]: [(o["own"], o["usual"]) for o in one["oddities"]] for one in result.rows}
    assert odd == {
        "edge-1": [],
        "edge-2": [],
        "edge-3": [("telnet on", "")],
        "edge-4": [("allow some", ""), ("", "deny any")],
    }
    assert "+ telnet on  alone" in edges.run("diff", "--where", "role=edge").out
    assert edges.run("diff", "--where", "site=north").code == 2
    assert edges.run("diff", "edge-1", "--where", "site=north").code == 2
    assert edges.run("diff").code == 2


# ---- secrets ----------------------------------------------------------------------------------------------------------


def test_no_form_of_output_tells_a_secret(edges: EstateFolder) -> None:
    file = edges.path / "historon.toml"
    file.write_text(file.read_text() + REQUIRED)
    edges.run("collect")
    _edit(edges, "snmp community CANARY-", "snmp community CANARY-NEW-")
    edges.run("collect")
    pin = ("diff", "edge-1")
    for command in (
        pin,
        (*pin, "--json"),
        *((*pin, "--form", form) for form in ("lines", "outline", "html")),
        ("diff", "edge-1", "edge-2"),
        ("diff", "--where", "role=edge"),
        ("diff", "--where", "role=edge", "--json"),
        ("changes",),
        ("changes", "--json"),
        ("changes", "--by", "site"),
        ("find", "snmp community"),
        ("find", "CANARY-NEW"),
        ("find", "snmp", "--json"),
        ("find", "snmp", "--ever"),
        ("trace", "edge-1", "snmp"),
        ("trace", "edge-1", "snmp", "--json"),
        ("noise", "edge-1"),
        ("requirements",),
        ("requirements", "--json"),
        ("collect", "-vv"),
    ):
        result = edges.run(*command)
        assert "CANARY-" not in result.out.replace('"CANARY-NEW"', ""), command
    handle = edges.run("changes", "--json").rows[0]["handle"]
    assert "CANARY" not in edges.run("changes", handle).out
    for columns in (80, 140):
        for form in ("lines", "side", "outline"):
            assert "CANARY" not in _terminal(edges, *pin, "--form", form, columns=columns)[1]


def test_secrets_are_masked_unless_revealed_by_one_rule(edges: EstateFolder) -> None:
    for command in (("diff", "edge-1", "edge-2"), ("find", "snmp"), ("trace", "edge-1", "snmp"), ("show", "edge-1")):
        assert "CANARY-1" not in edges.run(*command).out, "in a pipe too"
        assert "CANARY-1" in edges.run(*command, "--reveal").out
    with (edges.path / "out.cfg").open("wb") as file:
        subprocess.run([PROGRAM, "show", "edge-1"], cwd=edges.path, stdout=file, check=True)
    assert (edges.path / "out.cfg").read_bytes() == (edges.path / "data" / "edge-1").read_bytes(), (
        "a file gets the bytes"
    )
    assert "CANARY-1" in _terminal(edges, "find", "snmp", "--reveal")[1]


def test_every_command_that_looks_says_how_it_is_used(tmp_path: Path) -> None:
    for command in ("changes", "find", "trace", "noise", "requirements", "diff"):
        said = historon(command, "--help", cwd=tmp_path)
        assert said.code == 0
        assert "Examples:" in said.out


def test_each_side_shows_what_its_version_holds(edges: EstateFolder) -> None:
    """The clock line is noise: it stands on each side as it is there, dimmed, with its own number."""
    text = (edges.path / "data" / "edge-1").read_text()
    saved = next(line for line in text.splitlines() if line.startswith("! saved at "))
    _edit(edges, saved, "! saved at 99", 1)
    _edit(edges, "time-server 10.0.0.9", "time-server 10.0.0.11\ntime-server 10.0.0.12", 1)
    edges.run("collect")
    code, said = _terminal(edges, "diff", "edge-1", "--form", "side", "-C", "50", columns=160)
    assert code == 1
    (line,) = [one for one in said.splitlines() if "! saved at" in one]
    assert saved in line
    assert line.index(saved) < line.index("! saved at 99")
    numbers = re.findall(r"^\s*(\d+)\s+end\s+(\d+)\s+end", said, re.MULTILINE)[0]
    assert int(numbers[1]) == int(numbers[0]) + 1, "each side counts its own lines"
    page = edges.run("diff", "edge-1", "--form", "html", "-C", "50").out
    assert '<td class="noise">! saved at 1</td>' in page
    assert '<td class="noise">! saved at 99</td>' in page


def test_a_mask_that_was_added_is_not_called_pruning(edges: EstateFolder) -> None:
    _edit(edges, "time-server 10.0.0.9", "time-server 10.0.0.11", 1)
    edges.run("collect")
    file = edges.path / "historon.toml"
    text = file.read_text()
    assert "noise = [" in text
    file.write_text(text.replace("noise = [", "noise = ['^time-server', ", 1))
    said = edges.run("changes").out
    assert "nothing left to show: hidden by the current noise and secret settings" in said
    assert "pruned" not in said
