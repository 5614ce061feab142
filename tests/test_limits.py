"""Limits of what is inspected, to the last line, byte and version: one less, exactly so, and one more."""

import pytest

from historon.estate import Share, read_procedure
from historon.inspection import error_line
from historon.inspection.answers import no_export
from historon.inspection.cuts import cut_off, shrunk_slowly

HALF = Share.parse("50%")
PROCEDURE = read_procedure("local-tree")


@pytest.mark.parametrize(
    ("before", "now", "exceeded"),
    [(100, 50, False), (100, 49, True), (10, 5, False), (10, 4, True), (9, 0, False), (10, 10, False)],
)
def test_a_share_is_exceeded_by_one_more_than_it(before: int, now: int, exceeded: bool) -> None:
    assert HALF.is_exceeded(before, now, 10) is exceeded


@pytest.mark.parametrize(("lines", "seen"), [(1, True), (5, True), (6, False)])
def test_an_error_is_looked_for_in_the_five_first_and_last_lines(lines: int, seen: bool) -> None:
    body = [b"hostname a"] * 20
    at_begin = [*body[: lines - 1], b"% Unknown command", *body]
    at_end = [*body, b"% Unknown command", *body[: lines - 1]]
    for answer in (at_begin, at_end):
        assert (error_line(b"\n".join(answer), PROCEDURE) is not None) == seen
    assert error_line(b"\n".join(at_end) + b"\n\n", PROCEDURE) is None or seen


def test_what_always_shrinks_is_measured_by_at_least_its_median() -> None:
    steady = [10_000] * 8
    assert shrunk_slowly(4_999, steady, HALF)
    assert not shrunk_slowly(5_000, steady, HALF)
    assert not shrunk_slowly(4_999, [500] * 8, HALF), "what is small may shrink as it likes"
    assert not shrunk_slowly(4_999, [10_000, 2_000] * 4, HALF), "what always goes up and down may go on with it"


def test_the_fewest_versions_that_something_is_measured_by() -> None:
    numbers = [number for number in range(1, 9) if shrunk_slowly(100, [10_000] * number, HALF)]
    assert numbers == list(range(numbers[0], 9))
    assert numbers[0] >= 3, "one or two versions say nothing about what is usual"


@pytest.mark.parametrize(
    ("answer", "is_one"),
    [
        (b'{"status": "error"}', False),
        (b"{}", False),
        (b"[]", False),
        (b"true", False),
        (b'{"status": "error", "message": "' + b"x" * 4090 + b'"}', True),
        (b"Error: locked\n", False),
        (b"Error: locked\nline two\n", False),
        (b"Error: locked\nline two\nline three\n", True),
        (b"error = locked\n", True),
        (b"x" * 195 + b" error", True),
        (b"", True),
    ],
)
def test_an_answer_that_says_only_how_things_stand_is_no_export(answer: bytes, is_one: bool) -> None:
    assert (no_export(answer) == "") == is_one


@pytest.mark.parametrize(("gone", "more"), [(3, ""), (4, " and 1 more"), (5, " and 2 more")])
def test_sections_that_are_gone_are_named_up_to_three(gone: int, more: str) -> None:
    kinds = ["router", "vlan", "policy", "snmp", "line", "banner", "user", "logging", "ntp"]
    whole = "".join(f"{kind}\n" + "".join(f"  setting-{n} {kind}\n" for n in range(9)) for kind in kinds).encode()
    cut = b"".join(line for line in whole.splitlines(keepends=True) if line.split()[-1].decode() not in kinds[:gone])
    (doubt, *_) = cut_off(cut, [whole] * 4, HALF, document=False)
    assert f"{more}, which the last 4 good versions had" in doubt
    assert doubt.count('"') == 2 * 3
