"""Against which earlier content each is written: few have to be read for any, and for large ones fewer."""

import pytest

from historon.store.encoding import CHAIN_BYTES, EPOCH, LONGEST_CHAIN, base_of, next_epoch

POSITIONS = range(1, EPOCH)


def _length(position: int, size: int) -> int:
    """How many contents are read for one, when all are of this size."""
    length = 1
    while position % EPOCH:
        position, length = base_of(position, size), length + 1
    return length


def test_small_contents_are_written_against_the_one_before() -> None:
    for position in POSITIONS:
        assert base_of(position, 100) == (position - 1 if position % 16 else position & (position - 1))
    assert max(_length(position, 100) for position in POSITIONS) == 15 + 6 + 1 <= LONGEST_CHAIN


@pytest.mark.parametrize("size", [CHAIN_BYTES // LONGEST_CHAIN, 2**22, 2**23, 2**24, CHAIN_BYTES // 2, CHAIN_BYTES])
def test_no_chain_is_heavier_than_it_may_be(size: int) -> None:
    assert all(_length(position, size) * size <= CHAIN_BYTES + size for position in POSITIONS)


@pytest.mark.parametrize("size", [2**22, 2**23, 2**24, CHAIN_BYTES // 2, CHAIN_BYTES])
def test_a_large_content_is_written_against_the_nearest_that_is_light_enough(size: int) -> None:
    for position in POSITIONS:
        base = position & (position - 1)
        nearer = [base]
        while base % EPOCH:
            base &= base - 1
            nearer.append(base)
        light = [one for one in nearer if ((one % EPOCH).bit_count() + 1) * size <= CHAIN_BYTES]
        assert base_of(position, size) == next(iter(light), position - position % EPOCH)


def test_the_limit_of_what_is_written_against_the_one_before_is_exact() -> None:
    most = CHAIN_BYTES // LONGEST_CHAIN
    assert base_of(7, most) == 6
    assert base_of(7, most + 1) == 6 & 7
    assert base_of(3, most + 1) == 2
    assert base_of(15, most + 1) == 14
    assert (base_of(EPOCH + 5, most), base_of(EPOCH + 5, most + 1)) == (EPOCH + 4, EPOCH + 4)
    assert (base_of(10, most), base_of(10, most + 1)) == (9, 8)


def test_epochs_begin_at_every_1024th() -> None:
    assert [next_epoch(position) for position in (0, 1, EPOCH, EPOCH + 1)] == [0, EPOCH, EPOCH, 2 * EPOCH]
