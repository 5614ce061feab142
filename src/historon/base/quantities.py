"""Sizes and instants as they are written."""

from datetime import UTC, datetime, tzinfo

__all__ = ["for_people", "in_names", "size_text", "utc_text"]


def size_text(count_of_bytes: float) -> str:
    """A size with three digits or so.

    >>> size_text(812), size_text(53_200), size_text(1_400_000)
    ('812 B', '53.2 kB', '1.4 MB')
    """
    for unit in ("B", "kB", "MB", "GB"):
        if count_of_bytes < 1000 or unit == "GB":
            if unit == "B" or count_of_bytes >= 100:
                return f"{count_of_bytes:.0f} {unit}"
            return f"{count_of_bytes:.1f} {unit}"
        count_of_bytes /= 1000
    raise AssertionError("unreachable")


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
