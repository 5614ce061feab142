"""When: expressions, what is due next, and promises on the age of versions.

The service is in `historon.timetable.service`, and not imported here: it brings all of collecting along.
"""

from historon.timetable.agenda import Due, Load, agenda, load_by_hour, warnings_of
from historon.timetable.instants import due_instants, frozen, offset_of
from historon.timetable.promises import SourceStatus, Standing, standings

__all__ = [
    "Due",
    "Load",
    "SourceStatus",
    "Standing",
    "agenda",
    "due_instants",
    "frozen",
    "load_by_hour",
    "offset_of",
    "standings",
    "warnings_of",
]
