"""Some forty kinds of configuration files, each with edits of known kind: reported under the right path, as what they are.

The files are those of `tests/data/kinds`: a text each, and behind it edits, with what is to be reported of them.
"""

import json
import random
import re
from collections.abc import Iterator
from contextlib import suppress
from pathlib import Path

import pytest

from historon.compare import How, compare_exports
from historon.versions import Masks

_DATA = Path(__file__).parent / "data" / "kinds"
_EDIT = re.compile(r'--- (".*") => (".*")')
_SECRET = re.compile(r"\[secret [0-9a-f]+\]")


def _kinds() -> Iterator[tuple[str, str, list[tuple[str, str, list[str]]]]]:
    """Each kind with its text and its edits: what was, what is, and what is to be reported."""
    for file in sorted(_DATA.glob("*.txt")):
        for block in file.read_text(encoding="utf-8").split("### ")[1:]:
            name, _, rest = block.partition("\n")
            text, *edits = re.split(r"^(?=--- \")", rest, flags=re.MULTILINE)
            made = []
            for edit in edits:
                first, *told = edit.splitlines()
                match = _EDIT.fullmatch(first)
                assert match, first
                made.append(
                    (json.loads(match[1].replace("\t", "\\t")), json.loads(match[2].replace("\t", "\\t")), told)
                )
            yield name, text, made


_EDITS = [
    pytest.param(name, text, *edit, id=f"{name} {number}")
    for name, text, edits in _kinds()
    for number, edit in enumerate(edits, 1)
]


@pytest.mark.parametrize(("kind", "text", "was", "now", "told"), _EDITS)
def test_an_edit_is_told_under_its_path_as_what_it_is(
    kind: str, text: str, was: str, now: str, told: list[str]
) -> None:
    assert text.count(was) >= 1, "the edit finds nothing"
    at = text.rindex(was) if text.count(was) > 1 and kind != "sshd" else text.index(was)
    edited = text[:at] + now + text[at + len(was) :]
    part = "p.csv" if kind == "CSV" else "p"
    changes = compare_exports({part: text.encode()}, {part: edited.encode()}, Masks(key=b"made up"))
    lines = [f"{one.sign} {one.path}{' ' * bool(one.path)}| {one.words}" for part in changes for one in part.changes]
    assert [_SECRET.sub("[secret]", line) for line in lines] == told


def test_they_are_as_many_as_they_are_said_to_be() -> None:
    kinds = list(_kinds())
    assert len(kinds) >= 40
    assert len(_EDITS) >= 200
    assert all(len(edits) >= 5 for _, _, edits in kinds)


def _installed() -> list[Path]:
    """Configuration files of this machine's packages, as far as they are texts."""
    found = []
    for folder in (Path("/etc"), Path("/usr/share/doc"), Path("/lib/systemd/system")):
        for file in sorted(folder.rglob("*.conf*")) + sorted(folder.rglob("*.cfg")) + sorted(folder.rglob("*.service")):
            with suppress(OSError):
                if file.is_file() and not file.is_symlink() and 40 < file.stat().st_size < 2**16:
                    found.append(file)
    return found[:150]


@pytest.mark.parametrize("file", _installed(), ids=str)
def test_in_a_file_of_this_machine_a_value_is_told_under_no_remark(file: Path) -> None:
    try:
        text = file.read_text(encoding="utf-8")
    except (UnicodeDecodeError, OSError):
        pytest.skip("no text that can be read")
    lines = text.splitlines(keepends=True)
    settings = [at for at, line in enumerate(lines) if re.match(r"\s*[A-Za-z][\w.-]*[ \t=:]+\S*\w\s*$", line)]
    rng = random.Random(file.name)
    for at in rng.sample(settings, min(4, len(settings))):
        line = lines[at].rstrip("\n")
        edited = "".join([*lines[:at], line.rstrip() + "9x\n", *lines[at + 1 :]])
        changes = compare_exports(
            {file.name: text.encode()}, {file.name: edited.encode()}, Masks(key=b"k", reveal=True)
        )
        told = [one for part in changes for one in part.changes]
        (change,) = (one for one in told if one.how is not How.UNRESOLVED)  # a name that is used was changed
        assert change.how is How.EDITED, change
        assert change.new.endswith("9x")
        assert change.new_at in (None, at + 1)
        headings = change.path.split(" / ")
        assert not any(one.lstrip().startswith(("#", ";", "//", "<!--")) for one in headings)
        assert re.split(r"[=:]", line.split()[0])[0] in change.path
