"""Some forty kinds of configuration files, each with edits of known kind: told under the right path, as what they are.

The files are those of `tests/data/kinds`: a text each, and behind it edits, with what is to be told of them.
"""

import json
import re
from collections.abc import Iterator
from pathlib import Path

import pytest

from historon.compare import Masks, compare_exports

_DATA = Path(__file__).parent / "data" / "kinds"
_EDIT = re.compile(r'--- (".*") => (".*")')
_SECRET = re.compile(r"\[secret [0-9a-f]+\]")


def _kinds() -> Iterator[tuple[str, str, list[tuple[str, str, list[str]]]]]:
    """Each kind with its text and its edits: what was, what is, and what is to be told."""
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
