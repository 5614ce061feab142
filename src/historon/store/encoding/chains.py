"""Against which earlier content each is written, so that few have to be read for any.

The contents of one part of one source form a strand and have positions in it, from 0 on. Position n is written
against the one before it, save every sixteenth, which is written against `n & (n - 1)`, n with its lowest set bit
cleared: so no chain is longer than 15 and the set bits of n / 16, and what would be keyframes are small deltas
themselves. Every 1,024 positions a keyframe begins again.
"""

__all__ = ["CHAIN_BYTES", "EPOCH", "LONGEST_CHAIN", "SPANS", "base_of", "next_epoch"]

EPOCH = 1024
_RUN = 16
SPANS = (64, _RUN)  # positions in a bundle, the largest first
CHAIN_BYTES = 64 * 2**20  # the contents that are read before one stay below this, if all are as large
LONGEST_CHAIN = _RUN - 1 + (EPOCH // _RUN - 1).bit_count() + 2


def base_of(position: int, size: int) -> int:
    """The position that a content of so many bytes is written against; not asked of a keyframe."""
    if position % _RUN and size * LONGEST_CHAIN <= CHAIN_BYTES:
        return position - 1
    base = position & (position - 1)
    while base % EPOCH and ((base % EPOCH).bit_count() + 1) * size > CHAIN_BYTES:
        base &= base - 1
    return base


def next_epoch(position: int) -> int:
    """The first position of an epoch that is not before this one."""
    return -(-position // EPOCH) * EPOCH
