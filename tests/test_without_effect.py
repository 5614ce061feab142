"""What is written and would have no effect is a mistake; what can only be known later fails the step."""

import json
from fnmatch import fnmatchcase

import pytest
from hypothesis import given
from hypothesis import strategies as st

from historon.estate.overlaps import _meet
from historon.standins.purser import Purser
from tests.conftest import EstateFolder, collect, describe_estate, parts_of

_HEAD = '[estate]\nname = "Test"\n'
_WEB = '[procedures.p]\nover = "https"\nsteps = [{ keep = "/x", as = "x" }]\n'
_LOCAL = '[procedures.p]\nover = "local"\nsteps = [{ keep = ["echo", "x"], as = "x" }]\n'


@pytest.mark.parametrize(
    ("text", "said"),
    [
        (
            _WEB
            + '[credentials.c]\nuser = "u"\npassword = "env:PW"\nkey = "file:k.pem"\n[[sources]]\nname = "s"\nprocedure = "p"\naddress = "127.0.0.1"\ncredentials = "c"\n',
            "is used by none of its sources (over https)",
        ),
        (
            _LOCAL + '[[sources]]\nname = "s"\nprocedure = "p"\nvalues = { name = "other" }\n',
            "{name} is set by Historon and cannot be replaced",
        ),
        (_LOCAL.replace('"x"], as', '"{user}"], as') + '[[sources]]\nname = "s"\nprocedure = "p"\n', "user"),
        (
            _WEB
            + '[[sources]]\nname = "s"\nprocedure = "p"\naddress = "127.0.0.1"\nhost_key = "SHA256:aaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaa"\n',
            "has no effect over https",
        ),
        (
            '[procedures.p]\nover = "local"\nsteps = [{ pull = "d/", as = "x", newest = "*.cfg", exclude = ["b*"] }]\n[[sources]]\nname = "s"\nprocedure = "p"\n',
            "newest",
        ),
        (
            _LOCAL.replace('as = "x"', 'as = "x", ends_with = "pattern:("')
            + '[[sources]]\nname = "s"\nprocedure = "p"\n',
            "not a regular expression",
        ),
    ],
    ids=[
        "key over https",
        "a built-in value",
        "needs an account",
        "a host key over https",
        "exclude beside newest",
        "a wrong expression",
    ],
)
def test_what_has_no_effect_is_a_mistake(estate: EstateFolder, text: str, said: str) -> None:
    estate.write(_HEAD + text)
    result = estate.run("doctor")
    assert result.code == 4, result.said
    assert said in result.err


def test_picking_by_a_field_that_nothing_has_fails_the_step(estate: EstateFolder) -> None:
    (estate.path / "list.json").write_text(json.dumps([{"id": "a"}, {"id": "b"}]))
    describe_estate(
        estate,
        over="local",
        steps="""
        { send = ["cat", "list.json"], learn = { items = 'json:' } },
        { pick = "one", from = "items", newest = "made" },
        { keep = ["echo", "{one.id}"], as = "x" },
    """,
    )
    result = collect(estate)
    assert result.code == 3
    assert 'nothing to pick: none of 2 in items has "made"' in result.err
    (estate.path / "list.json").write_text(
        json.dumps([{"id": "a", "made": "2026-01-02"}, {"id": "b", "made": "2026-03-01"}])
    )
    assert collect(estate).code == 0
    assert parts_of(estate)["x"] == b"b\n"


def test_the_end_may_hold_values_and_be_an_expression(estate: EstateFolder) -> None:
    describe_estate(
        estate,
        over="local",
        source='values = { last = "closing" }',
        steps="""
        { keep = ["printf", "one\\ntwo\\nclosing\\n"], as = "a", ends_with = "{last}" },
        { keep = ["printf", "one\\ntwo\\nend 17\\n"], as = "b", ends_with = 'pattern:^end \\d+$' },
    """,
    )
    result = collect(estate)
    assert result.code == 0, result.said
    text = (estate.path / "historon.toml").read_text()
    estate.write(text.replace('last = "closing"', 'last = "other"').replace(r"^end \d+$", r"^end [a-z]+$"))
    result = collect(estate)
    assert result.code == 3
    assert 'a does not end with "other" but with "closing"' in " ".join(result.said.split())
    assert "b does not end with" in " ".join(result.said.split())


def test_what_stands_inside_a_pause_is_taken_without_pausing_when_it_is_not_wanted(estate: EstateFolder) -> None:
    purser = Purser(estate.path / "purser")
    purser.write({"a.conf": "one\n"})
    describe_estate(
        estate,
        over="local",
        steps="""
        { send = ["echo", "mode live"], learn = { mode = 'pattern:mode (\\w+)' } },
        { pause = ["purser/purserctl", "pause"], when = { mode = '^cold' }, resume = ["purser/purserctl", "resume"], steps = [{ pull = "purser/data", as = "data" }, { keep = ["purser/purserctl", "state"], as = "state" }] },
    """,
    )
    result = collect(estate)
    assert result.code == 0, result.said
    assert parts_of(estate)["data/a.conf"] == b"one\n", "the data folder is never missing without a word"
    assert parts_of(estate)["state"] == b"purser is running\n"


def test_tidying_up_something_that_was_never_learnt_is_a_remark(estate: EstateFolder) -> None:
    describe_estate(
        estate,
        over="local",
        steps="""
        { keep = ["echo", "x"], as = "x" },
        { send = ["echo", "job 7"], learn = { job = 'pattern:job (\\d+)' }, when = { name = '^another' } },
        { tidy = ["rm", "job-{job}"] },
    """,
    )
    result = collect(estate)
    assert result.code == 0, result.said
    assert "was left out" in result.out or "was left out" in " ".join(estate.run("rounds", "1").out.split())


# ---- what would never be meant ---------------------------------------------------------------------------------------

_LABELLED = """
[estate]
name = "Test"
{head}
[procedures.p]
over = "local"
steps = [{{ pull = "{{path}}" }}]
values = {{ path = "x" }}
[[sources]]
name = "a"
procedure = "p"
labels = {{ site = "northmole", role = "edge" }}
[[sources]]
name = "b"
procedure = "p"
{source}
"""


@pytest.mark.parametrize(
    ("head", "source", "said"),
    [
        ('[[budgets]]\nsize = "1GB"\nwhere = { site = "northmol" }', "", 'no source has site "northmol" (did you mean'),
        ("[[requirements]]\nname = 'r'\nmust = ['x']\nwhere = { site = \"quay\" }", "", 'no source has site "quay"'),
        (
            '[channels.c]\nkind = "file"\npath = "x"\nwhere = { site = "northmole", role = "core" }',
            'labels = { site = "saltgate", role = "core" }',
            "no source has all of these labels",
        ),
        ("", 'labels = { site = "NorthMole" }', '"NorthMole" is written "northmole" elsewhere'),
        ("", 'labels = { Site = "northmole" }', '"Site" is written "site" elsewhere'),
        ("", 'values = { pth = "y" }', "no step of the procedure p uses {pth} (did you mean"),
    ],
)
def test_what_means_no_source_is_a_mistake(estate: EstateFolder, head: str, source: str, said: str) -> None:
    estate.write(_LABELLED.format(head=head, source=source))
    result = estate.run("doctor")
    assert (result.code, said in result.err) == (4, True), result.err


def test_a_list_of_sources_that_was_cut_off_is_a_mistake(estate: EstateFolder) -> None:
    text = _LABELLED.partition("[[sources]]")[0].format(head='sources_from = "all.csv"', source="")
    estate.write(text)
    rows = "name,procedure\na,p\nb,p\nc,p\n"
    (estate.path / "all.csv").write_text(rows)
    assert estate.run("doctor").code in (0, 1)
    (estate.path / "all.csv").write_text(rows[:-3])
    result = estate.run("doctor")
    assert (result.code, "the last line has no line feed: was the file cut off?" in result.err) == (4, True)
    assert "all.csv:4" in result.err


# ---- whose is it -----------------------------------------------------------------------------------------------------


@pytest.mark.parametrize(
    ("pattern", "folder", "shared"),
    [
        ("{name}-*.csv", "drop", True),
        ("{name}-[0-9]*.csv", "drop", False),
        ("{name}-*.csv", "drop/{name}", False),
        ("*.csv", "drop", True),
        ("{name}.csv", "drop", False),
        ("{name}?*", "drop", True),
    ],
)
def test_sources_that_would_take_each_others_files_are_a_mistake(
    estate: EstateFolder, pattern: str, folder: str, shared: bool
) -> None:
    sources = "".join(f'[[sources]]\nname = "{name}"\nprocedure = "d"\n' for name in ("fw", "fw-lab", "edge"))
    steps = f'{{ pull = "{pattern}", as = "x", complete = "renamed" }}'
    estate.write(f'{_HEAD}[procedures.d]\nover = "drop-folder"\nfolder = "{folder}"\nsteps = [{steps}]\n{sources}')
    result = estate.run("sources")
    assert (result.code == 4) == shared, result.err
    assert ("takes the same files as fw" in result.err) == shared


@given(st.text("ab*?", max_size=6), st.text("ab*?", max_size=6), st.lists(st.text("ab", max_size=6), max_size=20))
def test_patterns_meet_where_a_name_matches_both(one: str, other: str, names: list[str]) -> None:
    assert _meet(one, other) == _meet(other, one)
    if any(fnmatchcase(name, one) and fnmatchcase(name, other) for name in names):
        assert _meet(one, other)
    if not any(sign in one for sign in "*?"):
        assert _meet(one, other) == fnmatchcase(one, other)
