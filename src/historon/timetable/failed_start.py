"""A service that cannot open its store reports it anyway, once a day: it notes that beside the estate file."""

from contextlib import suppress
from datetime import datetime, timedelta
from pathlib import Path

from historon.base.errors import StoreError
from historon.estate import Estate
from historon.notices import DeliveryResult, Event, send_past_the_store

__all__ = ["forget_failed_start", "report_failed_start"]

_NOTE = ".historon-not-started"
_AGAIN = timedelta(days=1)


def report_failed_start(estate: Estate, error: StoreError, now: datetime) -> list[DeliveryResult]:
    """Report why the store cannot be opened, unless that was reported within a day."""
    file = estate.folder / _NOTE
    if not _is_news(file, now):
        return []
    words = f"the service cannot start, and nothing is collected: {error.message}"
    sent = send_past_the_store(estate, Event("store-trouble", now, words, advice=error.hint or ""), now)
    with suppress(OSError):
        file.write_text(f"{now.isoformat()}\n", encoding="ascii")
    return sent


def forget_failed_start(estate: Estate) -> None:
    """The store can be opened again."""
    with suppress(OSError):
        (estate.folder / _NOTE).unlink(missing_ok=True)


def _is_news(file: Path, now: datetime) -> bool:
    try:
        return not timedelta() <= now - datetime.fromisoformat(file.read_text().strip()) < _AGAIN
    except (OSError, ValueError, TypeError):
        return True
