"""When: promises on the age of versions."""

from historon.timetable.promises import SourceStatus, Standing, standings

__all__ = ["SourceStatus", "Standing", "standings"]
