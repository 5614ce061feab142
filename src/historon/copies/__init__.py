"""Second places that hold the versions too."""

from historon.copies.standing import CopyStatus, bring_up_to_date, copies_of, note_copied

__all__ = ["CopyStatus", "bring_up_to_date", "copies_of", "note_copied"]
