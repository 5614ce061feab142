"""Short forms of the trials in `torture/`, and what those found once."""

import random
from collections.abc import Iterator
from pathlib import Path

import pytest
from torture.fuzz import PARSERS, Parser, _tried, fuzz
from torture.kills import SCENARIOS, Scenario, campaign

from tests.conftest import sampled
from tests.peers import PEERS
from tests.prefork import Prefork

_FINDS = Path(__file__).parent / "data" / "finds"
_LISTENING = ("ssh shell", "telnet", "netconf", "https")  # which are collected as a file is, once they have answered
_BY_NAME = {parser.name: parser for parser in PARSERS}


@pytest.fixture(scope="module")
def prefork() -> Iterator[Prefork]:
    made = Prefork()
    yield made
    made.close()


@pytest.mark.campaign
@pytest.mark.parametrize(
    "kind", [one for one in SCENARIOS if one.name not in _LISTENING], ids=lambda kind: kind.name.replace(" ", "-")
)
def test_what_is_killed_at_some_of_its_steps_is_made_up_for_by_the_next(
    kind: type[Scenario], prefork: Prefork, tmp_path: Path
) -> None:
    if kind.needs and not PEERS[kind.needs]:
        pytest.skip(f"this machine does not have {kind.needs}")
    first = random.Random(kind.name).randrange(40)
    found = campaign(kind, tmp_path / "kills", prefork, first=first, stride=97)
    assert found.troubles == []
    assert found.versions > 0


@pytest.mark.parametrize("parser", sampled(6, PARSERS), ids=lambda parser: parser.name.replace(" ", "-"))
def test_hostile_bytes_are_refused_in_words_or_taken(parser: Parser) -> None:
    _, finds, _ = fuzz(parser, 60, seed=1, large=0)
    assert [find.what for find in finds] == []


@pytest.mark.parametrize("found", sorted(_FINDS.glob("*.what")), ids=lambda file: file.stem)
def test_what_was_found_once_is_mended(found: Path) -> None:
    parser, _, _ = found.read_text().partition(":")
    now, before = (found.with_suffix(ending).read_bytes() for ending in (".now", ".before"))
    assert _tried(_BY_NAME[parser], now, before) == ""


_HEAD_OF_TREE = b"# tree: mode, owner, time of change, name\n"
_SLOW_ONCE = [
    ("texts compared", b"/" + b"a" * 100_000 + b"!\n" + b"/x\n" * 9, b"x\n"),  # what might be a header line
    ("texts compared", b"".join(b" " * n + b"deep %d\n" % n for n in range(1000)), b"x\n"),
    (
        "texts compared",
        b"ab" * 40_000 + b"\n" + b"ab" * 39_000 + b"c\n",
        b"ab" * 40_000 + b"d\n",
    ),  # alike, and which is which
    ("texts compared", b"".join(b"w%d x\n" % (n % 3000) for n in range(6000)) + b"end\nend\n", b"x\n"),
    ("XML compared", b"<a " + b" ".join(b'a%d="x"' % n for n in range(9000)) + b"/>", b"<a/>"),
    ("letters", b'Content-Disposition: attachment; filename="' + b'"' * 200_000 + b"\n\nx\n", b""),
    ("letters", b"Subject: " + b"=?utf-8?b?" * 20_000 + b"\n\nx\n", b""),
    ("letters", b"Content-Type: " + b"(" * 100_000 + b"\n\nx\n", b""),
    ("dialogues", b"\r" * 400_000 + b"x\n", b"abc"),
    ("dialogues", b"\r        \rline\n" * 20_000, b"123456789012345"),
]


@pytest.mark.parametrize(("parser", "now", "before"), sampled(4, _SLOW_ONCE), ids=range(len(_SLOW_ONCE)))
def test_what_took_longer_than_its_length_once_does_so_no_more(parser: str, now: bytes, before: bytes) -> None:
    assert _tried(_BY_NAME[parser], now, before) == ""


@pytest.mark.parametrize(
    "line",
    [
        b"-rwxr-xr-x root:root 2026-13-01T00:00:00Z a\n",
        b"-rwxr-xr-x root:root 2026-01-01 a\n",
        b'-rwxr-xr-x a:b 2026-01-01T00:00:00Z "a\n',
    ],
)
def test_what_only_looks_like_the_metadata_of_a_tree_is_compared_all_the_same(line: bytes) -> None:
    assert _tried(_BY_NAME["trees compared"], _HEAD_OF_TREE + line, _HEAD_OF_TREE) == ""
    assert _tried(_BY_NAME["kept"], _HEAD_OF_TREE + line, _HEAD_OF_TREE) == ""
