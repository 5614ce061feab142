from datetime import UTC, datetime, timedelta
from zoneinfo import ZoneInfo

from hypothesis import given
from hypothesis import strategies as st

from historon.estate import Duration, Retention
from historon.retention import plan
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


_ANY = st.lists(
    st.tuples(st.integers(0, 10**7), st.sampled_from(list(State)), st.booleans()), min_size=1, max_size=60
).map(
    lambda rows: [
        Version("s", n, NOW - timedelta(seconds=age), state, 1, 0, 0, "held" if held else None)
        for n, (age, state, held) in enumerate(sorted(rows, key=lambda row: -row[0]), 1)
    ]
)
_SPANS = st.one_of(st.none(), st.integers(1, 200).map(lambda n: Duration(days=n)))


@given(_ANY, _SPANS, _SPANS, _SPANS, st.integers(1, 8))
def test_the_last_good_and_held_versions_always_stay(
    versions: list[Version], day: Duration | None, week: Duration | None, month: Duration | None, floor: int
) -> None:
    retention = Retention(all=d("1d"), day=day, week=week, month=month, at_least=floor)
    kept = set(_kept(versions, retention))
    good = [version for version in versions if version.good]
    changes = [version.number for version in versions if version.state is State.GOOD]
    assert not good or good[-1].number in kept
    assert all(version.number in kept for version in versions if version.held)
    assert set(changes[-floor:]) <= kept
    again = [version for version in versions if version.number in kept]
    assert set(_kept(again, retention)) == kept, "what has been pruned stays pruned"
