"""Whether an export is whole and plausible: what makes a version good or suspect."""

from typing import TYPE_CHECKING

from historon.base.lazily import lazily

if TYPE_CHECKING:
    from historon.inspection.answers import error_line
    from historon.inspection.cuts import MOST_PAST, Past
    from historon.inspection.exports import Inspection, Kept, inspect
    from historon.inspection.formats import Look, format_of, look_into

__all__ = [
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

__getattr__ = lazily(
    __name__,
    {
        "answers": ["error_line"],
        "cuts": ["MOST_PAST", "Past"],
        "exports": ["Inspection", "Kept", "inspect"],
        "formats": ["Look", "format_of", "look_into"],
    },
)
