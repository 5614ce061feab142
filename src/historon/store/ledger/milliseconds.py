"""Instants as the ledger keeps them."""

from datetime import UTC, datetime, timedelta

__all__ = ["from_ms", "perhaps_from_ms", "to_ms"]

_EPOCH = datetime(1970, 1, 1, tzinfo=UTC)


def to_ms(at: datetime) -> int:
    """Milliseconds since 1970-01-01 UTC, rounded down."""
    return int(at.timestamp() * 1000 // 1)


def from_ms(ms: int) -> datetime:
    """The UTC instant of milliseconds since 1970-01-01."""
    return _EPOCH + timedelta(milliseconds=ms)


def perhaps_from_ms(ms: int | None) -> datetime | None:
    """The same, where there may be none."""
    return None if ms is None else from_ms(ms)
