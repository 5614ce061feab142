"""When: expressions, what is due next, and how fresh versions are.

The service is in `historon.timetable.service`, and not imported here: it brings all of collecting along.
"""

from historon.timetable.agenda import Due, Load, agenda, load_by_hour, warnings_of
from historon.timetable.conditions import OpenCondition, is_well, missed_timetables, open_conditions
from historon.timetable.due import due_instants, frozen, offset_of
from historon.timetable.freshness import Freshness, SourceStatus, statuses

__all__ = [
    "Due",
    "Freshness",
    "Load",
    "OpenCondition",
    "SourceStatus",
    "agenda",
    "due_instants",
    "frozen",
    "is_well",
    "load_by_hour",
    "missed_timetables",
    "offset_of",
    "open_conditions",
    "statuses",
    "warnings_of",
]
