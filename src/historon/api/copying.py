"""Second places, one at a time: brought up to date, and read as stores of their own."""

from typing import TYPE_CHECKING

from historon.copies import bring_up_to_date, note_copied
from historon.copies import verify_copy as verify
from historon.errors import UsageError
from historon.estate import Estate, nearest
from historon.store import Copied, Verification

if TYPE_CHECKING:
    from historon.api.front import Historon

__all__ = ["known_copies", "update_copy", "verify_copy"]


def known_copies(estate: Estate, *names: str) -> list[str]:
    """These copies, or all; UsageError when there is no such."""
    for name in names:
        if name not in estate.copies:
            hint = nearest(name, estate.copies) or "write one in [copies] of the estate file"
            raise UsageError(f'there is no copy "{name}"', hint=hint)
    return list(names or estate.copies)


def update_copy(opened: "Historon", name: str) -> Copied:
    """Bring a copy up to date, and note as of when it is so."""
    known_copies(opened.estate, name)
    began = opened.clock()
    copied = bring_up_to_date(opened.estate, name)
    note_copied(opened.store, name, began, copied)
    return copied


def verify_copy(estate: Estate, name: str, sample: int | None) -> Verification:
    """Read all that is in a copy, or so much of it, and check it."""
    known_copies(estate, name)
    return verify(estate, name, sample)
