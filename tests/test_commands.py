"""The commands as a user meets them: piped, on a terminal, as JSON, and when something is wrong."""

import importlib
import re
import subprocess
import sys
import unicodedata
from pathlib import Path

import pexpect
import pytest

from historon.base.visible import made_visible
from historon.cli.main import COMMANDS
from historon.cli.output import printable
from historon.notices.rendering import visible
from tests.conftest import FILES_ESTATE, PROGRAM, EstateFolder, historon, needs_patch, sampled
from tests.prefork import Prefork

NAMES = [name for section in COMMANDS.values() for name in section]


def _edit(estate: EstateFolder, text: str) -> None:
    (estate.path / "data" / "a.conf").write_text(text)
    assert estate.run("collect").code == 0


@pytest.fixture
def history(files_estate: EstateFolder) -> EstateFolder:
    """Three good versions of one part."""
    for text in ("one\ntwo\nthree\n", "one\n2\nthree\n", "one\n2\nthree\nfour\n"):
        _edit(files_estate, text)
    return files_estate


def _terminal(estate: EstateFolder, *arguments: str, answer: str | None = None, columns: int = 100) -> tuple[int, str]:
    child = pexpect.spawn(
        str(PROGRAM), list(arguments), cwd=str(estate.path), encoding="utf-8", dimensions=(40, columns), timeout=60
    )
    if answer is not None:
        child.expect(r"\[y/N\]")
        said = str(child.before)
        child.sendline(answer)
    else:
        said = ""
    child.expect(pexpect.EOF)
    child.close()
    assert child.exitstatus is not None
    return child.exitstatus, said + str(child.before)


@pytest.mark.parametrize("name", NAMES)
def test_every_command_has_help_with_an_example(tmp_path: Path, name: str) -> None:
    result = historon(name, "--help", cwd=tmp_path)
    assert result.code == 0
    assert f"  historon {name}" in result.out.split("Example")[1]
    summary = next(section[name] for section in COMMANDS.values() if name in section)
    assert summary in " ".join(result.out.split())


@pytest.mark.parametrize("name", NAMES)
def test_every_command_is_documented(name: str) -> None:
    docs = Path(__file__).parent.parent / "docs" / "commands.md"
    assert f"## historon {name}\n" in docs.read_text()


def test_help_lists_every_command_and_imports_nothing_heavy(tmp_path: Path) -> None:
    result = historon("--help", cwd=tmp_path)
    assert all(f"\n  {name} " in result.out for name in NAMES)
    code = "import sys; sys.argv = ['historon', '--help']\nfrom historon.cli.main import run\nrun()\nprint([m for m in ('rich', 'msgspec', 'asyncssh', 'sqlite3') if m in sys.modules])"
    python = PROGRAM.with_name("python")
    assert subprocess.run([python, "-c", code], capture_output=True, text=True, check=True).stdout.endswith("[]\n")


def test_a_mistyped_command_or_option_is_told_with_the_nearest(tmp_path: Path) -> None:
    result = historon("colect", cwd=tmp_path)
    assert (result.code, 'did you mean "collect"' in result.err) == (2, True)
    assert historon("collect", "--nowhere", cwd=tmp_path).code == 2


def test_versions_shows_the_timeline(history: EstateFolder) -> None:
    lines = history.run("versions", "files").out.splitlines()
    assert lines[0] == "files: 3 versions; the last good one is @3"
    assert [line.split()[0] for line in lines[1:]] == ["version", "@3", "@2", "@1"]
    assert lines[2].split()[-3:-1] == ["+1", "-0"]
    rows = history.run("versions", "files", "--json").rows
    assert [(row["version"], row["added"], row["removed"], row["state"]) for row in rows] == [
        (3, 1, 0, "good"),
        (2, 1, 1, "good"),
        (1, 5, 0, "good"),
    ]
    assert history.run("versions", "file").code == 2


def test_versions_that_are_noise_alone_are_kept_and_left_out_of_the_timeline(files_estate: EstateFolder) -> None:
    files_estate.write(FILES_ESTATE.replace('over = "local"', "over = \"local\"\nnoise = ['^clock']"))
    for clock in range(3):
        _edit(files_estate, f"clock {clock}\nx\n")
    result = files_estate.run("versions", "files")
    assert [line.split()[0] for line in result.out.splitlines()] == ["files:", "version", "@1", "not"]
    assert "2 versions with only noise (--all)" in result.out
    assert files_estate.run("versions", "files", "--all").out.count("noise") == 2
    assert files_estate.run("show", "files").out == "clock 2\nx\n"
    same = files_estate.run("diff", "files")
    assert (same.code, same.out) == (0, ""), "a piped diff without a change is empty"
    assert "has no change on record since its first version" in same.err
    assert files_estate.run("diff", "files@1", "files@3").code == 0
    assert files_estate.run("diff", "files@1", "files@3", "--with-noise").code == 1


@needs_patch
def test_diff_says_by_its_exit_code_whether_they_differ_and_patch_applies_it(history: EstateFolder) -> None:
    diff = history.run("diff", "files@1", "files@3")
    assert diff.code == 1
    assert diff.out.startswith("--- files@1/data/a.conf\t20")
    (history.path / "old").write_text("one\ntwo\nthree\n")
    subprocess.run(["patch", "-s", "old"], cwd=history.path, input=diff.out, text=True, check=True)
    assert (history.path / "old").read_text() == "one\n2\nthree\nfour\n"
    assert history.run("diff", "files@3", "files").code == 0
    assert "+four" in history.run("diff", "files").out
    assert "+2" in history.run("diff", "files@1").out
    assert history.run("diff", "files@1", "--only", "nothing").code == 2


def test_diff_on_a_terminal_has_colour_and_a_pipe_has_none(history: EstateFolder) -> None:
    code, out = _terminal(history, "diff", "files")
    assert code == 1
    assert "\x1b[32m" in out
    assert "+ four" in out
    assert "\x1b" not in history.run("diff", "files").out + history.run("status").out


def test_show_names_the_parts_where_there_are_several(history: EstateFolder) -> None:
    (history.path / "data" / "b.bin").write_bytes(b"\0\1\2\r\n")
    history.run("collect")
    result = history.run("show", "files")
    assert result.code == 2
    assert "has 3 parts; name one of them:\n  data.tree\n  data/a.conf\n  data/b.bin" in result.err
    raw = subprocess.run(
        [PROGRAM, "show", "files", "data/b.bin", "--reveal"], cwd=history.path, capture_output=True, check=True
    )
    assert raw.stdout == b"\0\1\2\r\n"
    assert "data/b.bin is binary, 5 B" in _terminal(history, "show", "files", "data/b.bin")[1]
    assert "historon show files@4 data/b.bin > FILE" in history.run("show", "files", "data/b.bin").err
    assert 'did you mean "data/b.bin"' in history.run("show", "files", "b.bin").err


_UNSEEN = [
    "\u061c",
    "\u00ad",
    "\u202e",
    "\u2066",
    "\u200b",
    "\u2060",
    "\ufeff",
    "\U000e0041",
    "\u034f",
    "\u3164",
    "\ufe0f",
    "\u2028",
    "\x1b",
    "\x9b",
    "\x07",
    "\x85",
    "\u180e",
    "\U000e0100",
]


@pytest.mark.parametrize("char", _UNSEEN, ids=lambda char: f"{ord(char):x}")
def test_nothing_that_reorders_or_hides_text_reaches_an_eye(char: str) -> None:
    for shown in (printable(f"a{char}b"), visible(f"a{char}b"), made_visible(f"a{char}b", kept="\t", instead="·")):
        assert char not in shown
        assert len(shown) > 2, "it is seen that there is something"
    for plain in ("a\tb\nc", "héłlo 東京 🚢", "naïve – “quoted”"):
        assert printable(plain) == plain


def test_every_character_that_unicode_ignores_or_formats_with_is_made_visible() -> None:
    for number in range(sys.maxunicode + 1):
        char = chr(number)
        if unicodedata.category(char) in ("Cf", "Cs", "Zl", "Zp", "Cc") and char not in "\t\n":
            assert char not in printable(char)


def test_restore_writes_over_nothing_without_being_told(history: EstateFolder) -> None:
    assert history.run("restore", "files@1", "--to", "back").code == 0
    assert (history.path / "back/data/a.conf").read_text() == "one\ntwo\nthree\n"
    result = history.run("restore", "files", "--to", "back")
    assert (result.code, "nothing was written" in result.err) == (6, True)
    assert (history.path / "back/data/a.conf").read_text() == "one\ntwo\nthree\n"
    assert history.run("restore", "files", "--to", "back", "--overwrite").code == 0
    assert (history.path / "back/data/a.conf").read_text().endswith("four\n")
    assert [path.name for path in (history.path / "back" / "data").iterdir()] == ["a.conf"]


def test_restore_is_not_led_astray_by_links(history: EstateFolder, tmp_path: Path) -> None:
    outside = tmp_path / "outside"
    outside.mkdir()
    (history.path / "back").mkdir()
    (history.path / "back" / "data").symlink_to(outside)
    assert history.run("restore", "files", "--to", "back", "--overwrite").code == 6
    assert not list(outside.iterdir())


def test_restore_of_one_part_or_folder_or_nothing(history: EstateFolder) -> None:
    assert history.run("restore", "files", "--only", "data", "--to", "some").code == 0
    assert (history.path / "some/data/a.conf").exists()
    assert history.run("restore", "files", "--only", "dat", "--to", "none").code == 2
    assert not (history.path / "none").exists()


_RETENTION = '[retention.r]\nall = "1ms"\nat_least = 1\n[defaults]\nretention = "r"\n'


def test_prune_shows_its_plan_and_removes_only_when_told(history: EstateFolder) -> None:
    assert history.run("prune").out == "none of these sources has a retention: all versions stay\n"
    history.write(FILES_ESTATE + _RETENTION)
    assert history.run("hold", "files@1", "--because", "as built").code == 0
    plan = history.run("prune")
    assert "@2" in plan.out
    assert re.search(r"^ +1  held: as built$", plan.out, re.MULTILINE)
    assert "nothing was removed" in plan.out
    each = history.run("prune", "--each").out.splitlines()
    assert [line.split(maxsplit=3)[3] for line in each[2:5]] == [
        "stays: held: as built",
        "would be removed",
        "stays: the last good version",
    ]
    rows = history.run("prune", "--json").rows
    assert [row["stays"] for row in rows] == [True, False, True]
    assert len(history.store().versions("files")) == 3
    done = history.run("prune", "--yes")
    assert "1 version removed" in done.out
    assert [version.number for version in history.store().versions("files")] == [1, 3]
    assert history.run("show", "files@1").out == "one\ntwo\nthree\n"
    assert history.run("hold", "files@1", "--lift").code == 0
    assert "1 version removed" in history.run("prune", "--yes").out


def test_prune_asks_on_a_terminal(history: EstateFolder) -> None:
    history.write(FILES_ESTATE + _RETENTION)
    assert "Remove 2 versions?" in _terminal(history, "prune", answer="n")[1]
    assert len(history.store().versions("files")) == 3
    assert "2 versions removed" in _terminal(history, "prune", answer="y")[1]


def test_status_gives_one_verdict_and_an_exit_code(files_estate: EstateFolder) -> None:
    never = files_estate.run("status")
    assert (never.code, never.out.splitlines()[0]) == (1, "1 never collected of 1 source")
    files_estate.run("collect")
    kept = files_estate.run("status")
    assert (kept.code, kept.out.splitlines()[0]) == (0, "1 source: 1 fresh")
    files_estate.write(FILES_ESTATE.replace("26h", "1ms"))
    broken = files_estate.run("status", "--json")
    row = broken.rows[0]
    assert (broken.code, row["age"], row["version"], row["last_outcome"]) == (1, "overdue", 1, "new")
    assert broken.data["headline"] == "1 OVERDUE of 1 source"


def test_status_headlines_what_is_wrong_now(files_estate: EstateFolder) -> None:
    files_estate.run("collect")
    (files_estate.path / "data").rename(files_estate.path / "gone")
    files_estate.run("collect")
    failed = files_estate.run("status")
    assert (failed.code, failed.out.splitlines()[0]) == (1, "1 failed of 1 source at the last try; none overdue yet")
    assert "1 never collected of 1 source" not in failed.out


def test_status_of_nothing_says_how_to_begin(estate: EstateFolder) -> None:
    estate.write('[estate]\nname = "Empty"\n')
    result = estate.run("status")
    assert (result.code, result.out.startswith("no source yet: add one to /")) == (0, True)


def test_status_folds_a_large_estate_and_unfolds_it_when_asked(files_estate: EstateFolder) -> None:
    files_estate.run("collect")
    many = "".join(f'[[sources]]\nname = "s{n}"\nprocedure = "files"\n' for n in range(60))
    files_estate.write(FILES_ESTATE + many)
    folded = files_estate.run("status").out
    assert "not shown: 61 sources (--all)" in folded
    assert len(folded.splitlines()) < 5
    assert len(files_estate.run("status", "--all").out.splitlines()) > 61


def test_rounds_tell_what_happened(history: EstateFolder) -> None:
    lines = history.run("rounds").out.splitlines()
    assert lines[0] == "the last of 3 rounds: 1 changed"
    assert [line.split()[0] for line in lines[1:]] == ["round", "3", "2", "1"]
    assert history.run("rounds", "--json").rows[-1]["outcomes"]["new"] == 1
    assert "new" in history.run("rounds", "1").out
    assert history.run("rounds", "9").code == 2


def test_a_reader_that_goes_away_is_no_error(history: EstateFolder) -> None:
    command = f"{PROGRAM} versions files | head -1; echo ${{PIPESTATUS[0]}}"
    done = subprocess.run(["bash", "-c", command], cwd=history.path, capture_output=True, text=True, check=False)
    assert done.stderr == ""


def test_a_round_on_a_terminal_shows_a_bar_and_what_is_new(files_estate: EstateFolder) -> None:
    code, out = _terminal(files_estate, "collect")
    assert code == 0
    assert "collecting" in out
    assert "new" in out
    assert "round 1: 1 source in" in out


def test_without_a_version_the_way_on_is_named(files_estate: EstateFolder) -> None:
    for command in ("show", "diff", "restore --to x", "hold"):
        name, *rest = command.split()
        result = files_estate.run(name, "files", *rest)
        assert result.code == 2
        assert "historon collect files" in result.err
    assert "no version yet" in files_estate.run("versions", "files").out


def test_sources_are_listed_as_they_are_understood(files_estate: EstateFolder) -> None:
    more = '[defaults]\nlabels = { kind = "files" }\n[[sources]]\nname = "b"\nprocedure = "files"\nskip = "later"\nlabels = { site = "x" }\n'
    files_estate.write(FILES_ESTATE + more)
    lines = files_estate.run("sources").out.splitlines()
    assert [line.split()[0] for line in lines if line] == ["2", "source", "files", "b"]
    assert "kind=files site=x" in lines[3]
    assert "skipped: later" in lines[3]
    rows = files_estate.run("sources", "--where", "site=x", "--json").rows
    assert [(row["source"], row["over"], row["labels"]) for row in rows] == [
        ("b", "local", {"kind": "files", "site": "x"})
    ]


def test_a_source_that_is_not_there_is_no_source_to_collect(history: EstateFolder) -> None:
    for command in ("show", "diff", "restore --to x", "hold", "versions"):
        name, *rest = command.split()
        result = history.run(name, "fles", *rest)
        assert (result.code, 'there is no source "fles"\n  did you mean "files"?' in result.err) == (2, True), command
        assert "historon collect" not in result.err


def test_a_label_or_value_that_no_source_has_is_wrong_use_everywhere(history: EstateFolder) -> None:
    history.write(FILES_ESTATE + 'labels = { site = "northmole" }\n')
    narrowed = ("status", "requirements", "prune", "find x", "collect", "agenda", "sources", "diff", "changes")
    for command in (*narrowed, "versions", "rounds", "noise", "doctor"):
        value = history.run(*command.split(), "--where", "site=nrthmole")
        assert (value.code, 'did you mean "northmole"?' in value.err) == (2, True), command
        label = history.run(*command.split(), "--where", "sit=northmole")
        assert (label.code, 'did you mean "site"?' in label.err) == (2, True), command


def test_copies_that_are_not_there_cannot_be_updated(history: EstateFolder) -> None:
    for option in ("--update", "--verify"):
        result = history.run("copies", option)
        assert (result.code, f"there is no copy to {option[2:]}" in result.err) == (2, True)


def test_every_mistake_has_one_form(history: EstateFolder) -> None:
    for command in ("show", "colect", "status --nowhere", "show nope", "rounds x", "notices try nobody"):
        result = history.run(*command.split())
        assert result.code == 2, command
        assert result.err.startswith("historon: "), result.err
        assert all(line.startswith("  ") for line in result.err.splitlines()[1:]), result.err
        assert "Error:" not in result.err


def test_nothing_is_cut_on_a_narrow_terminal(estate: EstateFolder) -> None:
    name = "a-source-with-quite-a-long-name-at-the-northmole-quay-number-1"
    for narrow in (name, "short"):
        (estate.path / narrow).mkdir()
        (estate.path / narrow / "configuration-of-the-whole-quay.conf").write_text("one\nend\n")
    source = '[[sources]]\nname = "{0}"\nprocedure = "files"\nvalues = {{ path = "{0}" }}\nmax_age = "26h"\nlabels = {{ site = "q" }}\n'
    steps = '{ pull = "{path}/configuration-of-the-whole-quay.conf", ends_with = "end" }'
    head = f'[estate]\nname = "T"\n[procedures.files]\nover = "local"\nsteps = [{steps}]\n'
    estate.write(head + source.format(name) + source.format("short"))
    estate.run("collect")
    (estate.path / name / "configuration-of-the-whole-quay.conf").write_text("half of it\n")
    (estate.path / "short" / "configuration-of-the-whole-quay.conf").unlink()
    estate.run("collect")
    for command in ("rounds", "rounds 2", f"versions {name} --all", "sources", "notices", "status"):
        wide = set(estate.run(*command.split()).out.split())
        _, out = _terminal(estate, *command.split(), columns=80)
        narrow_words = set(re.sub(r"\x1b\[[0-9;?]*[A-Za-z]", "", out).split())
        instants_of_status = r"[\d:.-]+|just|now|ago|last|confirmed|\(\w+\)|[\d.]+\w+"
        left_out = {word for word in wide - narrow_words if not re.fullmatch(rf"note|made|{instants_of_status}", word)}
        assert not left_out, command
        assert not any("…" in word for word in narrow_words)


def test_the_order_of_names_in_a_section_is_a_change(files_estate: EstateFolder) -> None:
    """The first that fits may decide: lists of permissions, of codecs."""
    file = files_estate.path / "data" / "app.ini"
    file.write_text("[acl]\ndeny = 10.0.0.0/8\npermit = 0.0.0.0/0\n[other]\na = 1\n")
    files_estate.run("collect")
    file.write_text("[acl]\npermit = 0.0.0.0/0\ndeny = 10.0.0.0/8\n[other]\na = 1\n")
    assert "changed" in files_estate.run("collect").said
    assert "~ [acl]  order of names" in files_estate.run("diff", "files", "--form", "outline").out
    file.write_text("[other]\na = 1\n[acl]\npermit = 0.0.0.0/0\ndeny = 10.0.0.0/8\n")
    assert "unchanged" in files_estate.run("collect").out, "the order of sections has no effect"


def test_a_part_that_a_source_calls_as_a_record_is_called_is_compared_as_what_it_is(files_estate: EstateFolder) -> None:
    head = "# tree: mode, owner, time of change, name\n"
    line = "-rw-r--r-- root:root 2026-01-0{0}T00:00:00Z etc/a.conf\nallow {0}\n"
    file = files_estate.path / "data" / "listing.tree"
    file.write_text(head + line.format(1))
    files_estate.run("collect")
    file.write_text(head + line.format(2))
    assert "changed" in files_estate.run("collect").said
    shown = files_estate.run("diff", "files").out
    assert "2026-01-02T00:00:00Z" in shown, "its bytes are the source's"
    assert "allow 2" in shown


@pytest.mark.parametrize("closed", sampled(5, [">&-", "<&-", "2>&-", "<&- >&- 2>&-"]))
@pytest.mark.parametrize("command", ["status", "collect", "--help", "diff files"])
def test_a_closed_stream_is_no_defect(files_estate: EstateFolder, closed: str, command: str) -> None:
    files_estate.run("collect")
    (files_estate.path / "data" / "a.conf").write_text("one\nmore\n")
    done = subprocess.run(
        ["bash", "-c", f"{PROGRAM} {command} {closed}"], cwd=files_estate.path, capture_output=True, check=False
    )
    assert done.returncode in (0, 2), done.stderr
    assert b"defect" not in done.stderr
    assert files_estate.run("verify").code == 0, "nothing was written into the ledger"


def test_a_folder_that_is_gone_is_told(files_estate: EstateFolder, tmp_path: Path) -> None:
    gone = tmp_path / "gone"
    gone.mkdir()
    done = subprocess.run(
        ["bash", "-c", f"cd {gone}; rmdir {gone}; {PROGRAM} status"], capture_output=True, text=True, check=False
    )
    assert (done.returncode, "exists" in done.stderr) == (6, True), done.stderr
    there = ["bash", "-c", f"mkdir {gone}; cd {gone}; rmdir {gone}; {PROGRAM} collect --estate {files_estate.path}"]
    assert subprocess.run(there, capture_output=True, check=False).returncode == 0


def test_the_estate_may_be_named_before_the_command(files_estate: EstateFolder, tmp_path: Path) -> None:
    before = historon("--estate", files_estate.path, "sources", "--json", cwd=tmp_path)
    assert [row["source"] for row in before.rows] == ["files"]
    other = historon("--estate", tmp_path / "none", "sources", "--estate", files_estate.path, cwd=tmp_path)
    assert other.code == 0, "the command's own comes first"


def test_a_label_chooses_what_is_rehearsed_and_verified(files_estate: EstateFolder) -> None:
    text = FILES_ESTATE.replace('name = "files"', 'name = "files"\nlabels = { site = "mole" }')
    files_estate.write(text + text[text.index("[[sources]]") :].replace("files", "more", 1).replace("mole", "quay"))
    assert [row["source"] for row in files_estate.run("rehearse", "--where", "site=mole", "--json").rows] == ["files"]
    assert files_estate.run("collect").code == 0
    assert files_estate.run("verify", "--where", "site=quay", "--json").data["sources"] == 1
    assert files_estate.run("verify", "--where", "site=none").code == 2
    assert files_estate.run("rehearse").code == 2, "no source is named"


def test_noise_takes_no_proposal_that_is_not_there(history: EstateFolder) -> None:
    assert history.run("noise", "files", "--take", "4").code == 2
    assert history.run("noise", "files", "--take", "all").code == 0


def test_the_doctor_spares_what_the_defaults_name(estate: EstateFolder) -> None:
    named = '[retention.r]\nall = "1d"\n[timetables.t]\nat = "02:30"\n[defaults]\nretention = "r"\ntimetable = "t"\n'
    estate.write('[estate]\nname = "Test"\n' + named)
    assert "nothing uses it" not in estate.run("doctor").said
    estate.write('[estate]\nname = "Test"\n' + named[: named.index("[defaults]")])
    assert "nothing uses it" in estate.run("doctor").out


def _break_the_board() -> None:
    vars(importlib.import_module("historon.timetable"))["statuses"] = None


def test_a_defect_is_named_by_its_line_and_its_traceback_is_shown_to_who_asks(files_estate: EstateFolder) -> None:
    prefork = Prefork()
    environment = {"PATH": "/usr/bin:/bin", "HOME": str(files_estate.path)}
    for debug in ({}, {"HISTORON_DEBUG": "1"}):
        code, _, err = prefork.run(["status"], files_estate.path, environment | debug, first=_break_the_board)
        assert (code, b"a defect in Historon itself: TypeError at estate.py:" in err) == (70, True), err
        assert (b"Traceback" in err) == bool(debug)
        assert b"not callable" not in err, "the text of an exception may hold a secret"
    prefork.close()


# Each command with what it says when all is well, and with what is wrong use of it; the rest run until they are stopped.
_WELL_AND_WRONG = {
    "agenda": ("agenda", "agenda nobody"),
    "changes": ("changes", "changes --since soon"),
    "collect": ("collect", "collect nobody"),
    "copies": ("copies", "copies nobody"),
    "diff": ("diff files@1 files@2", "diff nobody"),
    "doctor": ("doctor", "doctor --where a=b"),
    "find": ("find one", "find"),
    "hold": ("hold files@1", "hold nobody"),
    "new": ("new other", "new . --from-copy nowhere"),
    "noise": ("noise files", "noise nobody"),
    "notices": ("notices", "notices try nobody"),
    "procedures": ("procedures", "procedures nobody"),
    "prune": ("prune", "prune nobody"),
    "rehearse": ("rehearse files", "rehearse nobody"),
    "requirements": ("requirements", "requirements nobody"),
    "restore": ("restore files --to back", "restore nobody --to back"),
    "rounds": ("rounds", "rounds 99"),
    "service-files": ("service-files cron", "service-files nobody"),
    "show": ("show files", "show nobody"),
    "sources": ("sources", "sources list nobody"),
    "status": ("status", "status nobody"),
    "store": ("store", "store --nothing"),
    "trace": ("trace files one", "trace nobody one"),
    "verify": ("verify", "verify nobody"),
    "versions": ("versions files", "versions nobody"),
    "vouch": ("vouch", "vouch files@1"),
}


def test_results_go_to_standard_output_and_trouble_to_standard_error(history: EstateFolder) -> None:
    assert set(NAMES) - _WELL_AND_WRONG.keys() == {"demo", "prove", "push", "serve", "standins"}
    for well, wrong in _WELL_AND_WRONG.values():
        told = history.run(*well.split())
        assert (told.err, bool(told.out)) == ("", True), well
        refused = history.run(*wrong.split())
        assert refused.code
        assert (refused.out, bool(refused.err)) == ("", True), wrong
    for wrong in ("prove nobody", "push nobody", "serve --nothing", "standins --nothing", "demo --nothing"):
        refused = history.run(*wrong.split())
        assert (refused.code, refused.out, bool(refused.err)) == (2, "", True), wrong
