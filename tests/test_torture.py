"""Short forms of the trials in `torture/`, and what those found once."""

import random
from collections.abc import Iterator
from pathlib import Path

import pytest
from torture.fuzz import PARSERS, Parser, _tried, fuzz
from torture.kills import SCENARIOS, Scenario, campaign

from tests.prefork import Prefork

_FINDS = Path(__file__).parent / "data" / "finds"
_LISTENING = ("ssh shell", "netconf", "https")  # which are collected as a file is, once they have answered
_BY_NAME = {parser.name: parser for parser in PARSERS}


@pytest.fixture(scope="module")
def prefork() -> Iterator[Prefork]:
    made = Prefork()
    yield made
    made.close()


@pytest.mark.parametrize(
    "kind", [one for one in SCENARIOS if one.name not in _LISTENING], ids=lambda kind: kind.name.replace(" ", "-")
)
def test_what_is_killed_at_some_of_its_steps_is_made_up_for_by_the_next(
    kind: type[Scenario], prefork: Prefork, tmp_path: Path
) -> None:
    first = random.Random(kind.name).randrange(20)
    found = campaign(kind, tmp_path / "kills", prefork, first=first, stride=23)
    assert found.troubles == []
    assert found.versions > 0


@pytest.mark.parametrize("parser", PARSERS, ids=lambda parser: parser.name.replace(" ", "-"))
def test_hostile_bytes_are_refused_in_words_or_taken(parser: Parser) -> None:
    _, finds, _ = fuzz(parser, 60, seed=1, large=0)
    assert [find.what for find in finds] == []


@pytest.mark.parametrize("found", sorted(_FINDS.glob("*.what")), ids=lambda file: file.stem)
def test_what_was_found_once_is_mended(found: Path) -> None:
    parser, _, _ = found.read_text().partition(":")
    now, before = (found.with_suffix(ending).read_bytes() for ending in (".now", ".before"))
    assert _tried(_BY_NAME[parser], now, before) == ""
