"""Some weeks of keeping: pruned after rounds, copied to every kind of place, with what goes wrong there."""

import pytest
from year.keeping import play


@pytest.mark.campaign
def test_every_place_holds_what_its_retention_says() -> None:
    made = play(sources=6, nights=24, seed=3)
    assert made.wrong == []
    assert made.pruned > 2
    assert made.blocked > 0, "the clock was wrong, and that was told"
    assert made.refused >= 1, "a copy was away, a bucket full, a disk dead"
    assert made.copied > 30
