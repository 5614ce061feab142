"""What a comparison is between, and what it finds."""

from historon.api.context import Opened
from historon.api.results import Difference
from historon.api.version import named

__all__ = ["compared"]


def compared(
    opened: Opened,
    old: str,
    new: str | None,
    *,
    only: str | None = None,
    reveal: bool = False,
    with_noise: bool = False,
    ignore_case: bool = False,
    ignore_space: bool = False,
) -> Difference:
    """What differs between two sides as they are written on the command line; see Estate.diff."""
    from historon.api.sides import narrowed, sides_of
    from historon.compare import compare_exports

    source, before, after = sides_of(opened.store, lambda written: named(opened, written), old, new, only)
    masks = opened.masks(
        source, reveal=reveal, with_noise=with_noise, ignore_case=ignore_case, ignore_space=ignore_space
    )
    changes = compare_exports(before.contents, after.contents, masks)
    if only is not None:
        changes = narrowed(changes, only, [before, after])
    return Difference(before, after, changes, opened.weights)
