from datetime import timedelta

import pytest
from hypothesis import given
from hypothesis import strategies as st

from historon.estate import Duration, Size, describe


@pytest.mark.parametrize(
    ("text", "seconds"),
    [
        ("90d", 7_776_000),
        ("26h", 93_600),
        ("1y", 31_536_000),
        ("1d12h", 129_600),
        ("1.5h", 5400),
        ("250ms", 0.25),
        (" 2 w ", 1_209_600),
    ],
)
def test_durations_are_read(text: str, seconds: float) -> None:
    assert Duration.parse(text).total_seconds() == seconds


@pytest.mark.parametrize(
    ("wrong", "told"),
    [
        ("30", '30 has no unit (write "30d" for days or "30h" for hours)'),
        (30, "30 has no unit"),
        ("-30d", 'cannot be negative (write "30d")'),
        ("30 days", '"days" is not a unit of time (write "30d")'),
        ("30D", 'write "30d"'),
        ("2 months", 'months differ in length: write "61d"'),
        ("5 minutes", 'write "5m"'),
        ("3 fortnights", "use ms, s, m for minutes, h, d, w or y"),
        ("d", "is not a duration"),
        ("", "a duration is missing"),
        ("0d", "more than zero"),
        ("5000y", "at most 200y"),
        (True, "expected a duration"),
        (None, "expected a duration"),
    ],
)
def test_nonsense_is_refused_with_a_suggestion(wrong: object, told: str) -> None:
    with pytest.raises(ValueError) as caught:
        Duration.parse(wrong)
    assert told in str(caught.value)


@given(st.integers(1, 10**9))
def test_a_described_duration_reads_back_within_its_precision(seconds: int) -> None:
    span = timedelta(seconds=seconds)
    described = Duration.parse(describe(span))
    assert described <= span
    assert (span - described) / span < 0.1


@given(st.text(max_size=20))
def test_no_text_breaks_the_parser(text: str) -> None:
    try:
        assert Duration.parse(text) > timedelta()
    except ValueError as exc:
        assert str(exc)


@pytest.mark.parametrize(("text", "size"), [("200B", 200), ("64 kB", 64_000), ("1.5MiB", 1_572_864)])
def test_sizes_are_read(text: str, size: int) -> None:
    assert Size.parse(text) == size


@pytest.mark.parametrize("wrong", ["200", "-1B", "many", "5 lightyears", 7])
def test_sizes_need_a_unit(wrong: object) -> None:
    with pytest.raises(ValueError, match="with its unit"):
        Size.parse(wrong)
