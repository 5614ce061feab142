"""A section of one text put in its place in another: under its own heading, and nothing else is changed."""

import re
from collections.abc import Mapping

import pytest
from hypothesis import given
from hypothesis import strategies as st

from historon.restore import with_section


@pytest.mark.parametrize(
    ("present", "wanted", "place", "becomes"),
    [
        ("a\n  x 1\nb\n", "a\n  x 2\n  y\nb\n", "a", "a\n  x 2\n  y\nb\n"),
        ("b\nend\n", "a\n  x\nb\nend\n", "a", "b\na\n  x\nend\n"),
        ("z\nb\nend\n", "z\na\n  x\nb\nend\n", "a", "z\na\n  x\nb\nend\n"),
        ("z\na\n  x\nb\n", "z\nb\n", "a", "z\nb\n"),
    ],
)
def test_where_a_section_goes(present: str, wanted: str, place: str, becomes: str) -> None:
    made = with_section(present.encode(), wanted.encode(), place)
    assert made == becomes.encode()


@pytest.mark.parametrize(
    ("present", "wanted", "place", "becomes"),
    [
        # The same lines stand under another heading, which is none of the place.
        ("b\n x\n  y 1\na\n x\n  y 1\n", "b\n x\n  y 1\na\n x\n  y 2\n", "a / x", "b\n x\n  y 1\na\n x\n  y 2\n"),
        # What stands before it in the wanted text has more below it now.
        ("b\n x\n z\nend\n", "b\n x\na\n y\nend\n", "a", "b\n x\n z\na\n y\nend\n"),
        # It is new under a heading that is there.
        ("b\n w\na\n w\nend\n", "b\n w\na\n w\n x\nend\n", "a / x", "b\n w\na\n w\n x\nend\n"),
        ("a\n w\nend\n", "a\n x\n w\nend\n", "a / x", "a\n x\n w\nend\n"),
        # A part of a place is at several.
        ("a\n m 1\nb\n m 1\n", "a\n m 2\nb\n m 3\n", "m ", "a\n m 2\nb\n m 3\n"),
        # It is in several pieces.
        ("set a 1\nset b 1\nset a 2\n", "set a 3\nset b 1\nset a 4\n", "set a", "set a 3\nset a 4\nset b 1\n"),
        ("[a]\nx=1\n[b]\ny=1\n[a]\nz=1\n", "[a]\nx=2\n[b]\ny=1\n", "[a]", "[a]\nx=2\n[b]\ny=1\n"),
        # Braces, with what closes them; and a last line without its end.
        ("a {\n x 1;\n}\nb {\n x 1;\n}", "a {\n x 1;\n}\nb {\n x 2;\n}", "b", "a {\n x 1;\n}\nb {\n x 2;\n}"),
        (
            "a {\n x 1;\n}\nc {\n y;\n}",
            "a {\n x 1;\n}\nb {\n x 2;\n}",
            "b",
            "a {\n x 1;\n}\nb {\n x 2;\n}\nc {\n y;\n}",
        ),
    ],
)
def test_a_section_goes_under_its_own_heading(present: str, wanted: str, place: str, becomes: str) -> None:
    made = with_section(present.encode(), wanted.encode(), place)
    assert made is not None
    assert made.decode() == becomes


@pytest.mark.parametrize(
    ("present", "wanted", "said"),
    [
        ("b\n w\nend\n", "b\n w\na\n x\nend\n", 'its place "a" is missing now'),
        ("a\n w\na\n w\nend\n", "a\n x\nend\n", "or there more than once"),
    ],
)
def test_a_section_without_its_heading_is_not_put_anywhere(present: str, wanted: str, said: str) -> None:
    with pytest.raises(ValueError, match=re.escape(said)):
        with_section(present.encode(), wanted.encode(), "a / x")


_LEAVES = st.lists(st.sampled_from(["l 1", "l 2", "m 1", "m 2"]), max_size=3, unique=True)
_TREES = st.dictionaries(
    st.sampled_from("abc"), st.dictionaries(st.sampled_from("xyz"), _LEAVES, max_size=3), max_size=3
)


def _written(tree: Mapping[str, Mapping[str, list[str]]]) -> bytes:
    lines = ["host t", "clock 1"]
    for top, below in tree.items():
        lines.append(f"part {top}")
        for name, leaves in below.items():
            lines += [f"  unit {name}", *(f"    {leaf}" for leaf in leaves)]
    return "".join(f"{line}\n" for line in lines).encode()


def _read(text: bytes) -> dict[str, dict[str, list[str]]]:
    found: dict[str, dict[str, list[str]]] = {}
    for line in text.decode().splitlines()[2:]:
        if line.startswith("    "):
            list(list(found.values())[-1].values())[-1].append(line.strip())
        elif line.startswith("  "):
            list(found.values())[-1][line.split()[1]] = []
        else:
            found[line.split()[1]] = {}
    return found


@given(present=_TREES, wanted=_TREES, top=st.sampled_from("abc"), below=st.sampled_from("xyz"))
def test_a_section_put_back_changes_nothing_else(
    present: dict[str, dict[str, list[str]]], wanted: dict[str, dict[str, list[str]]], top: str, below: str
) -> None:
    place = f"part {top} / unit {below}"
    expected = {name: dict(units) for name, units in present.items()}
    if top in expected:
        expected[top].pop(below, None)
    if below in wanted.get(top, {}):
        expected.setdefault(top, {})[below] = wanted[top][below]
    try:
        made = with_section(_written(present), _written(wanted), place, "indentation")
    except ValueError:
        assert top not in present, "only its heading may be missing"
        return
    if made is None:
        assert below not in present.get(top, {}) and below not in wanted.get(top, {})  # noqa: PT018
        return
    assert _read(made) == expected


def test_what_neither_text_has_changes_nothing() -> None:
    assert with_section(b"a\n", b"b\n", "interface nowhere") is None
