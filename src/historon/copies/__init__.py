"""Second places that hold the versions too."""

from historon.copies.status import CopyStatus, bring_up_to_date, copies_of, note_copied, verify_copy

__all__ = ["CopyStatus", "bring_up_to_date", "copies_of", "note_copied", "verify_copy"]
