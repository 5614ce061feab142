"""Second places that hold the versions too."""

from historon.copies.finding import copy_at_hand
from historon.copies.status import CopyStatus, bring_up_to_date, copies_of, fetch_copy, note_copied, verify_copy

__all__ = ["CopyStatus", "bring_up_to_date", "copies_of", "copy_at_hand", "fetch_copy", "note_copied", "verify_copy"]
