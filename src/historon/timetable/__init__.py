"""When: expressions, what is due next, and how fresh versions are.

The service is in `historon.timetable.service`, and not imported here: it brings all of collecting along.
"""

from typing import TYPE_CHECKING

from historon.base.lazily import lazily

if TYPE_CHECKING:
    from historon.timetable.conditions import OpenCondition, is_well, missed_timetables, open_conditions
    from historon.timetable.due import due_instants, frozen, offset_of
    from historon.timetable.freshness import Freshness, SourceStatus, statuses
    from historon.timetable.planned import Due, Load, agenda, load_by_hour, warnings_of

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

__getattr__ = lazily(
    __name__,
    {
        "planned": ["Due", "Load", "agenda", "load_by_hour", "warnings_of"],
        "conditions": ["OpenCondition", "is_well", "missed_timetables", "open_conditions"],
        "due": ["due_instants", "frozen", "offset_of"],
        "freshness": ["Freshness", "SourceStatus", "statuses"],
    },
)
