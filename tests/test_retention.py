from datetime import UTC, datetime, timedelta
from types import SimpleNamespace
from zoneinfo import ZoneInfo

import msgspec
import pytest
from hypothesis import given
from hypothesis import strategies as st

from historon.estate import Duration, Retention, Settings, Size, Source
from historon.retention import plan
from historon.retention.budgets import within_budgets
from historon.store import State, Version

OSLO = ZoneInfo("Europe/Oslo")
NOW = datetime(2026, 11, 22, 12, tzinfo=UTC)


def _versions(*ages: timedelta, state: State = State.GOOD) -> list[Version]:
    return [Version("s", n, NOW - age, state, 10, 0, 0) for n, age in enumerate(sorted(ages, reverse=True), 1)]


def _kept(versions: list[Version], retention: Retention) -> list[int]:
    return [one.version.number for one in plan(versions, retention, now=NOW, zone=OSLO) if one.stays]


def d(text: str) -> Duration:
    return Duration.parse(text)


def test_the_last_of_each_period_stays_and_says_why() -> None:
    versions = _versions(*(timedelta(hours=6 * n) for n in range(200)))
    retention = Retention(all=d("2d"), day=d("10d"), week=d("30d"), at_least=1)
    verdicts = plan(versions, retention, now=NOW, zone=OSLO)
    rules = {rule: sum(one.rule == rule for one in verdicts) for rule in {one.rule for one in verdicts}}
    assert rules == {
        "the last good version": 1,
        "all for 2d": 8,
        "last of its day, for 10d": 8,
        "last of its week, for 30d": 3,
        None: 180,
    }


def test_days_are_those_of_the_estate_not_of_utc() -> None:
    instants = [datetime(2026, 11, 1, 22, 30, tzinfo=UTC), datetime(2026, 11, 1, 23, 30, tzinfo=UTC)]
    versions = [Version("s", n, at, State.GOOD, 1, 0, 0) for n, at in enumerate(instants, 1)]
    retention = Retention(day=d("90d"), at_least=1)
    assert [one.stays for one in plan(versions, retention, now=NOW, zone=OSLO)] == [True, True]
    assert [one.stays for one in plan(versions, retention, now=NOW, zone=UTC)] == [False, True]


def test_the_hour_that_comes_twice_is_two_hours() -> None:
    """02:30 on 25 October 2026 in Oslo, before and after the clocks go back."""
    instants = [datetime(2026, 10, 25, 0, 30, tzinfo=UTC), datetime(2026, 10, 25, 1, 30, tzinfo=UTC)]
    versions = [Version("s", n, at, State.GOOD, 1, 0, 0) for n, at in enumerate(instants, 1)]
    assert len({at.astimezone(OSLO).hour for at in instants}) == 1
    assert all(one.stays for one in plan(versions, Retention(hour=d("90d"), at_least=1), now=NOW, zone=OSLO))


def test_a_floor_holds_however_old_and_noise_does_not_count_for_it() -> None:
    old = _versions(*(timedelta(days=1000 + n) for n in range(10)))
    assert _kept(old, Retention(all=d("1d"), at_least=4)) == [7, 8, 9, 10]
    noisy = [*old[:5], *(Version("s", v.number, v.at, State.NOISE, 1, 0, 0) for v in old[5:])]
    assert _kept(noisy, Retention(all=d("1d"), at_least=4)) == [2, 3, 4, 5, 10]


def test_suspects_take_nobodys_place_and_go_in_their_time() -> None:
    good, suspects = (
        _versions(timedelta(days=400)),
        _versions(timedelta(days=40), timedelta(days=2), state=State.SUSPECT),
    )
    versions = good + [Version("s", v.number + 1, v.at, v.state, 1, 0, 0) for v in suspects]
    verdicts = plan(versions, Retention(day=d("1y"), at_least=1), now=NOW, zone=OSLO)
    assert [one.rule for one in verdicts] == ["the last good version", None, "suspect, for 30d"]
    longer = plan(versions, Retention(day=d("1y"), at_least=1, suspect=d("60d")), now=NOW, zone=OSLO)
    assert [one.rule for one in longer] == ["the last good version", "suspect, for 60d", "suspect, for 60d"]


@pytest.mark.parametrize(
    ("retention", "kept"),
    [
        (Retention(month=d("300d"), at_least=1), ["2026-09-30", "2026-10-31", "2026-11-22"]),
        (Retention(year=d("9y"), at_least=1), ["2025-12-31", "2026-11-22"]),
        (Retention(month=d("60d"), year=d("9y"), at_least=1), ["2025-12-31", "2026-09-30", "2026-10-31", "2026-11-22"]),
    ],
)
def test_months_and_years_keep_their_last_version(retention: Retention, kept: list[str]) -> None:
    days = ["2025-06-01", "2025-12-31", "2026-09-01", "2026-09-30", "2026-10-01", "2026-10-31", "2026-11-22"]
    instants = [datetime.fromisoformat(f"{day}T10:00:00+00:00") for day in days]
    versions = [Version("s", n, at, State.GOOD, 1, 0, 0) for n, at in enumerate(instants, 1)]
    assert [days[n - 1] for n in _kept(versions, retention)] == kept


@pytest.mark.parametrize(("over", "stays"), [(timedelta(), True), (timedelta(milliseconds=1), False)])
def test_a_duration_holds_to_its_last_instant(over: timedelta, stays: bool) -> None:
    versions = _versions(d("2d") + over, timedelta(hours=1))
    assert (1 in _kept(versions, Retention(all=d("2d"), at_least=1))) == stays


_ANY = st.lists(
    st.tuples(st.integers(0, 10**7), st.sampled_from(list(State)), st.booleans()), min_size=1, max_size=60
).map(
    lambda rows: [
        Version("s", n, NOW - timedelta(seconds=age), state, 1, 0, 0, "held" if held else None)
        for n, (age, state, held) in enumerate(sorted(rows, key=lambda row: -row[0]), 1)
    ]
)
_SPANS = st.one_of(st.none(), st.integers(1, 200).map(lambda n: Duration(days=n)))
_RETENTIONS = st.builds(
    Retention,
    all=st.integers(1, 200).map(lambda n: Duration(hours=n)),
    hour=_SPANS,
    day=_SPANS,
    week=_SPANS,
    month=_SPANS,
    year=_SPANS,
    noise=_SPANS,
    at_least=st.integers(1, 8),
)
_LATER = st.integers(0, 10**7).map(lambda seconds: timedelta(seconds=seconds))


def _left(versions: list[Version], retention: Retention, now: datetime) -> list[Version]:
    return [one.version for one in plan(versions, retention, now=now, zone=OSLO) if one.stays]


@given(_ANY, _RETENTIONS, st.one_of(st.none(), st.integers(0, 12)))
def test_the_last_good_and_held_versions_and_the_floor_always_stay(
    versions: list[Version], retention: Retention, more: int | None
) -> None:
    at_most = None if more is None else retention.at_least + more
    retention = msgspec.structs.replace(retention, at_most=at_most)
    kept = set(_kept(versions, retention))
    good = [version for version in versions if version.good]
    changes = [version.number for version in versions if version.state is State.GOOD]
    assert not good or good[-1].number in kept, (
        "also of a source that was not collected since: the last before an outage"
    )
    assert all(version.number in kept for version in versions if version.held)
    assert set(changes[-retention.at_least :]) <= kept
    again = [version for version in versions if version.number in kept]
    assert set(_kept(again, retention)) == kept, "what has been pruned stays pruned"
    if at_most is not None:
        sacred = (
            {good[-1].number, *changes[-retention.at_least :], *(one.number for one in good if one.held)}
            if good
            else set()
        )
        assert len([one for one in good if one.number in kept]) <= max(at_most, len(sacred))


@given(_ANY, _RETENTIONS, _LATER, _LATER)
def test_nothing_comes_back_in_time_and_runs_between_make_no_difference(
    versions: list[Version], retention: Retention, later: timedelta, latest: timedelta
) -> None:
    first, second = NOW + later, NOW + later + latest
    at_once = _left(versions, retention, second)
    assert set(at_once) <= set(_left(versions, retention, first)), "what may go may go for ever"
    in_two = _left(_left(versions, retention, first), retention, second)
    assert in_two == at_once, "whoever pruned in between"


@given(_ANY, _RETENTIONS, st.integers(0, 10**6))
def test_new_versions_let_older_ones_go_but_the_newest_stays(
    versions: list[Version], retention: Retention, seconds: int
) -> None:
    now = NOW + timedelta(seconds=seconds)
    new = Version("s", len(versions) + 1, now, State.GOOD, 1, 0, 0)
    assert new in _left([*versions, new], retention, now)


def test_no_more_than_so_many_stay_and_the_oldest_go_first() -> None:
    versions = _versions(*(timedelta(hours=n) for n in range(10)))
    assert _kept(versions, Retention(all=d("1d"), at_least=2, at_most=4)) == [7, 8, 9, 10]
    assert _kept(versions, Retention(at_least=2, at_most=4)) == [7, 8, 9, 10], "also without any duration"
    held = [*versions[:1], *versions[1:]]
    held[0] = Version("s", 1, held[0].at, State.GOOD, 10, 0, 0, "held")
    assert _kept(held, Retention(at_least=2, at_most=4)) == [1, 8, 9, 10]


def test_noise_stands_for_no_day_and_goes_in_its_own_time() -> None:
    """A change in the morning and noise at night: the day is the change's, whenever it is pruned."""
    change = Version("s", 1, NOW - timedelta(days=20, hours=8), State.GOOD, 1, 0, 0)
    noise = Version("s", 2, NOW - timedelta(days=20), State.NOISE, 1, 0, 0)
    last = Version("s", 3, NOW - timedelta(hours=1), State.GOOD, 1, 0, 0)
    retention = Retention(all=d("1d"), day=d("90d"), noise=d("7d"), at_least=1)
    assert _kept([change, noise, last], retention) == [1, 3]
    assert _kept([change, noise, last], Retention(all=d("1d"), day=d("90d"), at_least=1)) == [2, 3]


def test_the_words_of_the_floor_say_what_is_counted() -> None:
    versions = _versions(timedelta(days=40), timedelta(days=30))
    rules = [one.rule for one in plan(versions, Retention(all=d("1d"), at_least=2), now=NOW, zone=OSLO)]
    assert rules == ["one of the last 2 that changed (noise ignored)", "the last good version"]


class _Weighed:
    """A store that knows what versions weigh."""

    def __init__(self, weights: dict[str, dict[int, int]]) -> None:
        self._weights = weights

    def weights(self, source: str) -> dict[int, int]:
        return self._weights[source]


@given(
    st.lists(
        st.tuples(st.integers(0, 400), st.integers(0, 1000), st.sampled_from([State.GOOD, State.NOISE])), max_size=30
    ),
    st.integers(0, 20_000),
    st.integers(1, 5),
)
def test_a_budget_is_kept_or_nothing_more_may_go(found: list[tuple[int, int, State]], room: int, floor: int) -> None:
    ages = sorted({age for age, _, _ in found}, reverse=True)
    versions = [Version("s", n, NOW - timedelta(days=age), found[n - 1][2], 1, 0, 0) for n, age in enumerate(ages, 1)]
    weights = {one.number: found[one.number - 1][1] for one in versions}
    retention = Retention(all=d("300d"), at_least=floor, size=Size(room))
    settings = Settings(name="x")
    source = Source(name="s", procedure="p", retention="r")
    estate = SimpleNamespace(retention={"r": retention}, sources={"s": source}, budgets=[], settings=settings)
    plain = plan(versions, retention, now=NOW, zone=OSLO, name="r")
    trimmed = within_budgets(estate, {"s": plain}, _Weighed({"s": weights}), None)["s"]  # type: ignore[arg-type]
    assert [one.version for one in trimmed] == versions
    assert all(after.stays for before, after in zip(plain, trimmed, strict=True) if before.always)
    assert not any(after.stays for before, after in zip(plain, trimmed, strict=True) if not before.stays)
    taken = sum(weights[one.version.number] for one in trimmed if one.stays)
    assert taken <= room or all(one.always for one in trimmed if one.stays)
    again = within_budgets(estate, {"s": trimmed}, _Weighed({"s": weights}), None)["s"]  # type: ignore[arg-type]
    assert again == trimmed, "once is enough"
    if plain == trimmed:
        return
    # Nothing goes that need not: with the last one that went it would be too much.
    gone = [before.version for before, after in zip(plain, trimmed, strict=True) if before.stays and not after.stays]
    noise = [one for one in gone if one.state is State.NOISE]
    left = [one.version for one in trimmed if one.stays and not one.always]
    assert not (len(noise) < len(gone) and any(one.state is State.NOISE for one in left)), "noise goes first"
