"""Whether an export is whole and plausible: what makes a version good or suspect."""

from historon.inspection.answers import error_line
from historon.inspection.cuts import MOST_PAST, Past
from historon.inspection.exports import Inspection, Kept, inspect
from historon.inspection.formats import FORMATS, Look, format_of, look_into

__all__ = [
    "FORMATS",
    "MOST_PAST",
    "Inspection",
    "Kept",
    "Look",
    "Past",
    "error_line",
    "format_of",
    "inspect",
    "look_into",
]
