"""Whether an export is whole and plausible: what makes a version good or suspect."""

from historon.inspection.exports import Inspection, Kept, error_line, inspect
from historon.inspection.formats import FORMATS, Look, format_of, look_into

__all__ = ["FORMATS", "Inspection", "Kept", "Look", "error_line", "format_of", "inspect", "look_into"]
