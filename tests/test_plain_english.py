"""What people read is plain English: help, messages and documents keep the rules that CONTRIBUTING names."""

import ast
import re
import shlex
import statistics
import struct
import subprocess
import tomllib
import zlib
from collections.abc import Iterator
from pathlib import Path

import click
import pytest
from tools.commands_page import PAGE, page

from historon.cli.main import COMMANDS, cli
from historon.estate import EstateError, read_estate
from tests.conftest import FILES_ESTATE, PROGRAM, EstateFolder

ROOT = Path(__file__).parent.parent
SOURCE = ROOT / "src" / "historon"
DOCUMENTS = sorted([ROOT / "README.md", *(ROOT / "docs").glob("*.md")])
_ODD = re.compile(r"\b(told|anew|reckon\w*|likewise|stood|of late)\b|\ball the same\b", re.IGNORECASE)
_BACKWARDS = re.compile(r"(What|Of|By|From which)\b")
_LONGEST, _MEAN = 25, 16  # words of a sentence


def _prose(text: str) -> Iterator[str]:
    """The sentences of a document, without code, tables, headings and pictures."""
    text = re.sub(r"^( *)```.*?^\1```$", "\n", text, flags=re.MULTILINE | re.DOTALL)
    for block in re.split(r"\n\s*\n|\n(?=\s*(?:[-*]|\d+\.)\s)", text):
        if re.match(r" {4}\S|[|#!]", block):
            continue
        words = re.sub(r"^\s*([-*]|\d+\.)\s+", "", " ".join(block.split()))
        words = re.sub(r"`[^`]*`", "CODE", re.sub(r"!?\[([^\]]*)\]\([^)]*\)", r"\1", words)).replace("**", "")
        yield from (one for one in re.split(r"(?<=[.?!:;])\s+", words) if one)


@pytest.mark.parametrize("document", DOCUMENTS, ids=lambda path: path.name)
def test_sentences_of_documents_are_short_and_straight(document: Path) -> None:
    sentences = list(_prose(document.read_text()))
    for one in sentences:
        assert len(one.split()) <= _LONGEST, one
        assert not _BACKWARDS.match(one), one
    if sentences:
        assert statistics.fmean(len(one.split()) for one in sentences) <= _MEAN
    odd = _ODD.search(re.sub(r"`[^`]*`", "", document.read_text()))
    assert odd is None, odd


def _messages() -> Iterator[tuple[str, str]]:
    """The texts of the program that are sentences, each with its place."""
    for file in sorted(SOURCE.rglob("*.py")):
        tree = ast.parse(file.read_text())
        inside = {id(one) for node in ast.walk(tree) if isinstance(node, ast.JoinedStr) for one in ast.walk(node)}
        for node in ast.walk(tree):
            if isinstance(node, ast.JoinedStr):
                text = "".join(str(one.value) if isinstance(one, ast.Constant) else "X" for one in node.values)
            elif isinstance(node, ast.Constant) and isinstance(node.value, str) and id(node) not in inside:
                text = node.value
            else:
                continue
            if " " in text.strip():
                yield f"{file.relative_to(SOURCE)}:{node.lineno}", text


def test_no_message_or_docstring_has_an_odd_word() -> None:
    found = [(place, text) for place, text in _messages() if _ODD.search(re.sub(r"`[^`]*`", "", text))]
    assert [one for one in found if one[1] != "told up to"] == [], "but a key that older ledgers have"


def test_a_hint_does_not_begin_with_its_label() -> None:
    hints = [
        (f"{file.name}:{node.value.lineno}", text)
        for file in sorted(SOURCE.rglob("*.py"))
        for node in ast.walk(ast.parse(file.read_text()))
        if isinstance(node, ast.keyword) and node.arg in ("hint", "advice", "remedy")
        for text in [ast.unparse(node.value).lstrip("f").strip("'\"")]
    ]
    assert len(hints) > 300
    assert [one for one in hints if re.match(r"try\b(?! \{)", one[1], re.IGNORECASE)] == []


def _commands(group: click.Group, name: str = "historon") -> Iterator[tuple[str, click.Command]]:
    context = click.Context(group)
    for sub in group.list_commands(context):
        command = group.get_command(context, sub)
        assert command is not None
        yield f"{name} {sub}", command
        if isinstance(command, click.Group):
            yield from _commands(command, f"{name} {sub}")


def test_help_is_in_the_imperative() -> None:
    for name, command in _commands(cli):
        assert not _BACKWARDS.match(command.help or ""), name
        assert not re.match(r"(Is|Are|Where|Who|Since|Second|The|A)\b", command.help or ""), name
        for option in command.params:
            if isinstance(option, click.Option):
                assert option.help, (name, option.name)
                assert not _BACKWARDS.match(option.help), (name, option.help)


def test_one_option_has_one_form_everywhere() -> None:
    flags: dict[str, set[bool]] = {}
    for _, command in _commands(cli):
        for option in command.params:
            if isinstance(option, click.Option):
                for flag in option.opts:
                    flags.setdefault(flag, set()).add(option.is_flag)
    assert [flag for flag, forms in flags.items() if len(forms) > 1] == []


def test_the_page_of_commands_is_what_help_says() -> None:
    assert PAGE.read_text() == page(), "python -m tools.commands_page writes it"


_CALL = re.compile(r"^(?:\$ )?(?:cd \S+ && )?historon( [^#|>&\n]*)")


def _called(text: str) -> Iterator[str]:
    for block in re.findall(r"^```(?:sh|console|cron)\n(.*?)^```$", text, re.MULTILINE | re.DOTALL):
        yield from (found[1] for line in block.splitlines() if (found := _CALL.match(line)))
    yield from (found[1] for code in re.findall(r"`([^`\n]+)`", text) if (found := _CALL.match(code)))


@pytest.mark.parametrize("document", DOCUMENTS, ids=lambda path: path.name)
def test_every_command_that_a_document_names_is_there(document: Path) -> None:
    for call in _called(document.read_text()):
        words = shlex.split(call.replace("…", "X").replace("[", "").replace("]", ""))
        command: click.Command = cli
        while (
            words and isinstance(command, click.Group) and (found := command.get_command(click.Context(cli), words[0]))
        ):
            command, words = found, words[1:]
        assert command is not cli or not words or words[0].startswith("-") or words[0].isupper(), call
        meant = [command, *(command.commands.values() if isinstance(command, click.Group) else ())]
        known = {flag for one in meant for option in one.params for flag in option.opts}
        known |= {"--help", "-h", "--version", "-vv"}
        for word in words:
            flag = word.partition("=")[0]
            assert not flag.startswith("--") or flag in known, f"{document.name}: historon{call}"


@pytest.mark.parametrize("document", DOCUMENTS, ids=lambda path: path.name)
def test_toml_in_documents_is_right(document: Path, tmp_path: Path) -> None:
    """Each block is a piece of an estate file: what it refers to may be elsewhere, but every key and value is right."""
    for block in re.findall(r"^ *```toml\n(.*?)^ *```$", document.read_text(), re.MULTILINE | re.DOTALL):
        data = tomllib.loads(block)
        if set(data) == {"steps"}:
            continue  # tests/test_structure.py tries each over every transport
        text = block if "estate" in data else f'[estate]\nname = "x"\n{block}'
        (tmp_path / "historon.toml").write_text(text)
        try:
            read_estate(tmp_path / "historon.toml")
        except EstateError as exc:
            wrong = [
                one
                for one in exc.problems
                if re.search(r"not known|expected|not possible|no effect|takes no", one.message)
            ]
            assert wrong == [], block


def test_the_complete_example_of_the_documents_is_a_whole_estate(tmp_path: Path) -> None:
    (block,) = re.findall(
        r"^```toml\n(.*?)^```$", (ROOT / "docs" / "first-night.md").read_text(), re.MULTILINE | re.DOTALL
    )
    (tmp_path / "historon.toml").write_text(block)
    assert sorted(read_estate(tmp_path / "historon.toml").sources) == ["edge-1", "edge-2", "files"]


def test_messages_of_the_troubleshooting_page_are_those_of_the_program() -> None:
    texts = "\n".join(text for _, text in _messages())
    rows = re.findall(r"^\| `([^`]+)` \|", (ROOT / "docs" / "troubleshooting.md").read_text(), re.MULTILINE)
    assert len(rows) >= 30
    for row in rows:
        for piece in filter(None, (one.strip(' "') for one in row.split("…"))):
            assert piece in texts, row


def test_readme_is_short() -> None:
    text = (ROOT / "README.md").read_text()
    words = re.sub(r"!?\[([^\]]*)\]\([^)]*\)", r"\1", text[: text.rindex("![")]).split()
    assert len(words) <= 700


@pytest.mark.parametrize("picture", sorted((ROOT / "docs" / "screenshots").glob("*.png")), ids=lambda path: path.name)
def test_a_picture_shows_something(picture: Path) -> None:
    data = picture.read_bytes()
    width, height = struct.unpack(">II", data[16:24])
    assert width >= 400
    assert height >= 150
    packed, place = b"", 8
    while place < len(data):
        size, kind = struct.unpack(">I4s", data[place : place + 8])
        packed += data[place + 8 : place + 8 + size] if kind == b"IDAT" else b""
        place += size + 12
    assert len(set(zlib.decompress(packed))) > 8, "it has one colour"


@pytest.mark.parametrize("there", [True, False])
def test_cron_mails_bad_nights_only(estate: EstateFolder, there: bool) -> None:
    """The line that the documents give: what it leaves on standard output and standard error is what cron mails."""
    line = re.search(r"^ *30 2 \* \* \*  (.+)$", (ROOT / "docs" / "getting-started.md").read_text(), re.MULTILINE)
    assert line is not None
    estate.write(FILES_ESTATE)
    if there:
        (estate.path / "data").mkdir()
        (estate.path / "data" / "a.conf").write_text("x\n")
    command = (
        line[1].replace("/srv/estate", str(estate.path)).replace("/var/log/historon.log", str(estate.path / "log"))
    )
    done = subprocess.run(
        ["/bin/sh", "-c", command.replace("historon collect", f"{PROGRAM} collect")],
        capture_output=True,
        text=True,
        check=False,
    )
    assert done.stdout == ""
    assert ("files: failed" in done.stderr, "try" in done.stderr) == (not there, not there)
    assert bool(done.stderr) is not there, done.stderr
    assert "round 1" in (estate.path / "log").read_text()


def test_every_group_of_commands_is_in_the_help(tmp_path: Path) -> None:
    done = subprocess.run([PROGRAM, "--help"], capture_output=True, text=True, check=True)
    assert all(f"\n{title}:\n" in done.stdout for title in COMMANDS)
