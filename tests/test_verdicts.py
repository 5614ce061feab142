"""docs/verdicts.md names every verdict that the program gives, and each of them says what it does not know."""

import re
from pathlib import Path

from historon.api import Required
from historon.estate import RequirementState, Source
from historon.store import Outcome, State
from historon.timetable import Freshness
from tests.conftest import EstateFolder, describe_estate

PAGE = (Path(__file__).parent.parent / "docs" / "verdicts.md").read_text()


def _rows() -> dict[str, list[str]]:
    rows = [line.strip("|").split("|") for line in PAGE.splitlines() if line.startswith("|")][2:]
    return {word.strip(): [cell.strip() for cell in row] for row in rows for word in row[0].split(",")}


def test_every_verdict_has_its_row_and_every_row_says_what_it_rests_on() -> None:
    rows = _rows()
    told_elsewhere = {"new", "failed", "skipped", "noise", "no limit"}  # no verdict, or part of another one's row
    verdicts = {*map(str, Outcome), *map(str, State), *map(str, Freshness)} - told_elsewhere
    verdicts |= {*map(str, RequirementState), "up to date", "resumed", "SERVICE NOT RESUMED", "running", "interrupted"}
    assert verdicts <= rows.keys()
    source = Source(name="s", procedure="p")
    states = [Required(source, [], None).state, Required(source, [], []).state]
    assert states == [RequirementState.UNKNOWN, RequirementState.MET]
    assert all(all(cells) for cells in rows.values())


def test_every_command_that_is_named_is_there(estate: EstateFolder) -> None:
    for command in sorted({*re.findall(r"`historon ([a-z-]+)", PAGE)}):
        assert estate.run(command, "--help").code == 0, command


def test_what_cannot_be_told_is_not_well(estate: EstateFolder) -> None:
    """The sum of it: nothing is known, and no exit code says that all is well."""
    describe_estate(
        estate,
        over="local",
        steps='{ keep = ["false"], as = "x" }',
        source='max_age = "1h"',
        more='[[requirements]]\nname = "r"\nmust = ["x"]\n',
    )
    assert estate.run("collect", PW="x", UP="y").code == 3
    assert estate.run("status", PW="x", UP="y").code == 1
    assert estate.run("requirements", PW="x", UP="y").code == 1
