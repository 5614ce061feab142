"""Second places, one at a time: brought up to date, and read as stores of their own."""

from collections.abc import Sequence
from datetime import UTC, datetime
from typing import TYPE_CHECKING

from historon.copies import bring_up_to_date, copies_of, note_copied, note_refused, note_verified
from historon.copies import verify_copy as verify
from historon.errors import RefusedError, UsageError
from historon.estate import Estate, nearest
from historon.store import Copied, Verification

if TYPE_CHECKING:
    from historon.api.front import Historon

__all__ = ["known_copies", "newest_first", "update_copy", "verify_copy"]


def known_copies(estate: Estate, *names: str) -> list[str]:
    """These copies, or all; UsageError when there is no such."""
    for name in names:
        if name not in estate.copies:
            hint = nearest(name, estate.copies) or "add one to [copies] in the estate file"
            raise UsageError(f'there is no copy "{name}"', hint=hint)
    return list(names or estate.copies)


def newest_first(opened: "Historon", names: Sequence[str]) -> list[str]:
    """These copies, those that were brought up to date last first: they know most of what the store must still have."""
    at = {one.name: one.at for one in copies_of(opened.estate, opened.store, opened.clock())}
    never = datetime.min.replace(tzinfo=UTC)
    return sorted(names, key=lambda name: at[name] or never, reverse=True)


def update_copy(opened: "Historon", name: str) -> Copied:
    """Bring a copy up to date, and note as of when it is so.

    RefusedError where it and the store contradict each other.
    """
    known_copies(opened.estate, name)
    began = opened.clock()
    opened.to_write()
    try:
        copied = bring_up_to_date(opened.estate, name, began)
    except RefusedError as exc:
        note_refused(opened.store, name, exc)
        raise
    note_copied(opened.store, name, began, copied)
    return copied


def verify_copy(opened: "Historon", name: str, sample: int | None) -> Verification:
    """Read all that is in a copy, or so much of it, and check it; what it found stays known until it is mended."""
    known_copies(opened.estate, name)
    began = opened.clock()
    found = verify(opened.estate, name, sample)
    note_verified(opened.store, name, began, found)
    return found
