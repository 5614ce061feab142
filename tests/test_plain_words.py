"""Words that were given up stay out of the whole tree, and those who still write one are told the word of today."""

import re
from pathlib import Path

import pytest

from tests.conftest import FILES_ESTATE, EstateFolder

ROOT = Path(__file__).parent.parent
# Here alone they are named, so that an old estate file can be set right.
# Devices say some of them, so what is looked for in a configuration may hold them.
_SOURCES = ROOT / "src" / "historon"
NAMED_IN = {_SOURCES / "estate" / "renamed.py", _SOURCES / "insight" / "weights.toml", Path(__file__)}
TEXTS = {".py", ".md", ".toml", ".j2", ".html", ".cron", ".service", ".timer", ".plist", ".xml", ""}

# Each as an expression, so that ordinary uses of the same letters stay possible.
GIVEN_UP = [
    r"promis",
    r"\bbut_not\b",
    r"\bexpectation",
    r"\bexpect = ",
    r"`expect`",
    r"\[\[expect",
    r"historon (start|release|audit|expect)\b",
    r"\baudit",
    r"\bnotices\.remind|^remind = |`remind`",
    r'keys = \["',
    r"--play\b",
    r'"go on"',
    r"display (config|clock|version)",
    r"screen lines",
    r"\bvault",
    r"copies --check",
    r"restore [^\n`]*--part",
    r"--reveal --reveal",
    r"LEFT PAUSED|left[-_]paused",
    r"NO ROUND|round-refused",
    r"rounds-again",
    r"still-broken",
    r"what next",
    r"needs a hand|need a hand",
    r"slightly other",
    r"graver\b",
    r"stood there",
    r"held against",
    r"known here",
    r"file of PEM",
    r"tried again at",
    r"on paper",
    r"\bstandings?\b",
    r"\\w\.-\]\+\[>#\]",
    r"[●○]",
    r"families, since 7d",
]


def _texts() -> list[Path]:
    folders = [ROOT / name for name in ("src", "tests", "docs", "bench", "tools", "torture", ".ci")]
    found = [file for folder in folders for file in folder.rglob("*") if file.is_file() and file.suffix in TEXTS]
    return [*found, *ROOT.glob("*.md"), ROOT / "pyproject.toml", ROOT / "Makefile"]


@pytest.mark.parametrize("pattern", GIVEN_UP)
def test_a_word_that_was_given_up_is_nowhere(pattern: str) -> None:
    for file in _texts():
        if file not in NAMED_IN:
            found = re.search(pattern, file.read_text(encoding="utf-8"), re.MULTILINE)
            assert found is None, f"{file.relative_to(ROOT)}: {found[0]!r}"


@pytest.mark.parametrize(
    ("written", "said"),
    [
        ('[defaults]\npromise = "1d"\n', 'promise: this key is not known (it is "max_age" now)'),
        ('[copies.c]\npath = "x"\npromise = "1d"\n', 'promise: this key is not known (it is "max_lag" now)'),
        ('[[expectations]]\nname = "x"\n', 'expectations: this key is not known (it is "requirements" now)'),
        ('[notices]\nremind = "1d"\n', 'remind: this key is not known (it is "tell_again" now)'),
        ('[channels.c]\nkind = "file"\npath = "x"\nbut_not = "first"\n', '(it is "except" now)'),
        ('[channels.c]\nkind = "file"\npath = "x"\nat_once = true\n', '(it is "immediately" now)'),
        ('[channels.c]\nkind = "file"\npath = "x"\ntell = "promise-broken"\n', '(it is "overdue" now)'),
        ('[channels.c]\nkind = "file"\npath = "x"\ntell = ["audit-damage"]\n', '(it is "store-damaged" now)'),
        ('[procedures.p]\nover = "local"\nkeys = ["id"]\nsteps = [{ pull = "x" }]\n', '(it is "known_by" now)'),
        (
            '[procedures.p]\nover = "local"\nsteps = [{ keep = ["x"], as = "x", expect = { exit_code = 1 } }]\n',
            '(it is "check" now)',
        ),
        (
            '[procedures.p]\nover = "local"\nsteps = [{ await = ["x"], until = { still = "1s" }, or_else = "go on" }, '
            '{ pull = "x" }]\n',
            '(it is "continue" now)',
        ),
    ],
)
def test_an_old_word_in_an_estate_file_is_told_with_the_new_one(estate: EstateFolder, written: str, said: str) -> None:
    estate.write(FILES_ESTATE + written)
    result = estate.run("sources")
    assert result.code == 4
    assert said in result.err


def test_an_old_column_of_a_csv_is_told_with_the_new_one(estate: EstateFolder) -> None:
    estate.write(FILES_ESTATE.replace('name = "Test"', 'name = "Test"\nsources_from = "s.csv"'))
    estate.write("name,promise\nx,1d\n", "s.csv")
    assert 'column "promise" is not known (it is "max_age" now)' in estate.run("sources").err
