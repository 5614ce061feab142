"""The three ways in which an instant is written: for people, for programs, and in names of files."""

from datetime import UTC, datetime, tzinfo

__all__ = ["for_people", "in_names", "utc_text"]


def for_people(at: datetime, zone: tzinfo, *, named: bool = False) -> str:
    """An instant as screens and letters show it, `2026-06-14 02:30`, to the minute, in the estate's zone.

    The zone is `named` once in each output: `2026-06-14 02:30 Europe/Oslo`.
    """
    written = f"{at.astimezone(zone):%Y-%m-%d %H:%M}"
    return f"{written} {zone}" if named else written


def utc_text(at: datetime) -> str:
    """An instant as programs read it (RFC 3339), in UTC, to the millisecond: `2026-06-14T00:30:00.000Z`."""
    return at.astimezone(UTC).isoformat(timespec="milliseconds").replace("+00:00", "Z")


def in_names(at: datetime) -> str:
    """An instant in the name of a file (ISO 8601), in UTC, without colons, so that it sorts: `2026-06-14T003000Z`."""
    return f"{at.astimezone(UTC):%Y-%m-%dT%H%M%SZ}"
