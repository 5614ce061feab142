from collections.abc import Iterator
from datetime import UTC, datetime, timedelta
from pathlib import Path
from zoneinfo import ZoneInfo

import pytest

from historon.base.errors import UsageError
from historon.store import FolderStore, Part, State
from historon.versions import Reference, resolve
from tests.conftest import until_its_end
from tests.store_contract import take

NOW = datetime(2026, 1, 7, 12, tzinfo=UTC)


@pytest.fixture(scope="module")
def store(tmp_path_factory: pytest.TempPathFactory) -> Iterator[FolderStore]:
    """Good versions 1-3 and 5 of the nights 1 to 3 and 5 January, 02:30 UTC; number 4 is suspect."""
    made = FolderStore.create(tmp_path_factory.mktemp("store"))
    for night in range(5):
        take(made, night, Part("a", b"%d" % night), state=State.SUSPECT if night == 3 else State.GOOD)
    yield made
    made.close()


@pytest.mark.parametrize(
    ("name", "number"),
    [
        ("s", 5),
        ("s@latest", 5),
        ("s@2", 2),
        ("s@4", 4),
        ("s@-1", 3),
        ("s@-3", 1),
        ("s@2026-01-02", 2),
        ("s@2026-01-04", 3),
        ("s@2026-01-02T03:30", 2),
        ("s@2026-01-02T03:29", 1),
        ("s@2026-01-02T02:30Z", 2),
        ("s@2026-01-02T03:30:00", 2),
        ("s@4d", 3),
        ("s@1d", 5),
        ("s@5d9h", 2),
    ],
)
def test_every_form_names_a_version(store: FolderStore, name: str, number: int) -> None:
    assert resolve(store, Reference.parse(name), now=NOW, zone=ZoneInfo("Europe/Oslo")).number == number


@pytest.mark.parametrize(
    ("name", "told"),
    [
        ("s@99", "no such version (the first is s@1 of 2026-01-01 02:30 UTC, the latest @5)"),
        ("s@-9", "no such version"),
        ("s@2025-12-31", "no such version"),
        ("s@30d", "no such version"),
        ("s@2026-02-31", "is not a point in time"),
        ("s@yesterday", "is not a point in time"),
        ("s@14 days", 'write "14d"'),
        ("s@99999999y", "is not a point in time"),
        ("s@", "does not name a version"),
        ("@3", "does not name a version"),
        ("none", "none has no version yet"),
    ],
)
def test_what_cannot_be_found_says_what_there_is(store: FolderStore, name: str, told: str) -> None:
    with pytest.raises(UsageError) as caught:
        resolve(store, Reference.parse(name), now=NOW, zone=UTC)
    assert told in str(caught.value)


def test_a_source_with_nothing_but_suspects_has_no_good_version(tmp_path: Path) -> None:
    made = until_its_end(FolderStore.create(tmp_path))
    take(made, 0, Part("a", b"ha"), state=State.SUSPECT)
    assert resolve(made, Reference("s", "1"), now=NOW, zone=UTC).number == 1
    with pytest.raises(UsageError, match="no good version yet"):
        resolve(made, Reference("s"), now=NOW + timedelta(days=1), zone=UTC)
