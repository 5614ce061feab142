"""Two exports of one source, some seconds apart: what does not agree was perhaps still being written."""

from collections.abc import Iterator, Mapping, Sequence
from typing import IO

from historon.base.workers import Workers
from historon.collect.failures import CollectError, FailureKind
from historon.compare import compare_exports
from historon.inspection import Kept
from historon.versions import Masks, comparable

__all__ = ["check_agreement"]

_NAMED = 3  # parts that a message names


async def check_agreement(
    first: Sequence[Kept], second: Sequence[Kept], masks: Masks, workers: Workers, source: str
) -> None:
    """CollectError when two exports differ by more than noise, or when that cannot be known.

    A part that is only recorded, or that follows another, may differ: it is no measure of a change either.
    """
    sides = _contents(first), _contents(second)
    if sides[0] == sides[1]:
        return
    done = await workers.run(source, _differing, *sides, masks, reply=str)
    if done.trouble:
        raise CollectError(FailureKind.INCOMPLETE, f"two exports could not be compared: {done.trouble}")
    if done.pieces:
        names = ", ".join(done.pieces[:_NAMED])
        more = f" and {len(done.pieces) - _NAMED} more parts" if len(done.pieces) > _NAMED else ""
        hint = "the source changes while it is collected: collect it later, or mask the differences as noise"
        raise CollectError(FailureKind.INCOMPLETE, f"two exports in a row differ in {names}{more}", hint=hint)


def _contents(kept: Sequence[Kept]) -> dict[str, bytes]:
    telling = [one for one in kept if not one.step.record_only and not one.step.follows]
    return {one.part.name: comparable(one.part) for one in telling}


def _differing(
    first: Mapping[str, bytes], second: Mapping[str, bytes], masks: Masks, _: Sequence[IO[bytes]]
) -> Iterator[str]:
    yield from (change.name for change in compare_exports(first, second, masks))
