"""Whether an export is whole and plausible: what makes a version good or suspect."""

from historon.inspection.exports import Kept, error_line, inspect

__all__ = ["Kept", "error_line", "inspect"]
