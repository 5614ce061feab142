"""`historon serve`: how its log is written."""

import json
import logging
import os
import sys
from datetime import UTC, datetime
from logging.handlers import WatchedFileHandler
from typing import Any

from historon.base.errors import OutsideError
from historon.base.quantities import utc_text
from historon.cli.output import printable
from historon.estate import without_secrets

__all__ = ["log_to"]

_PRIORITIES = {logging.DEBUG: 7, logging.INFO: 6, logging.WARNING: 4, logging.ERROR: 3, logging.CRITICAL: 2}


def log_to(form: str, level: str, file: str | None, file_level: str, *, journal: bool) -> None:
    """To standard error, and to a file; each with a level of its own."""
    handlers: list[tuple[logging.Handler, str]] = [(logging.StreamHandler(sys.stderr), level)]
    if file is not None:
        try:
            os.close(os.open(file, os.O_WRONLY | os.O_CREAT, 0o600))
            handlers.append((WatchedFileHandler(file, encoding="utf-8"), file_level))
        except OSError as exc:
            raise OutsideError(
                f"{file}: cannot log there: {exc.strerror}", hint="check that its folder exists and is writable"
            ) from exc
    log, libraries = logging.getLogger("historon"), logging.getLogger()
    log.handlers = []
    logging.captureWarnings(capture=True)
    for handler, own in handlers:
        for_journal = journal and not isinstance(handler, logging.FileHandler)
        words = _Journal() if for_journal else _Plain()
        handler.setFormatter(_Json() if form == "json" else words)
        handler.setLevel(own.upper())
        log.addHandler(handler)
    log.setLevel(min(handler.level for handler in log.handlers))
    log.propagate = False
    # What libraries warn of comes in the same form, and nothing of it past the log.
    libraries.handlers = list(log.handlers)
    libraries.setLevel(logging.WARNING)


class _Plain(logging.Formatter):
    """One line: instant, level, message. What came from outside cannot act on a terminal or forge a line."""

    def format(self, record: logging.LogRecord) -> str:
        return f"{_instant(record)} {record.levelname.lower():<7} {_line(record)}"


class _Journal(logging.Formatter):
    """One line with its priority in front, as the journal reads it (sd-daemon(3)); it adds the instant itself."""

    def format(self, record: logging.LogRecord) -> str:
        priority = _PRIORITIES.get(record.levelno, 3)
        return f"<{priority}>{_line(record)}"


class _Json(logging.Formatter):
    """One JSON object a line."""

    def format(self, record: logging.LogRecord) -> str:
        data: dict[str, Any] = {"at": _instant(record), "level": record.levelname.lower(), "message": _line(record)}
        return json.dumps(data, ensure_ascii=False)


def _instant(record: logging.LogRecord) -> str:
    return utc_text(datetime.fromtimestamp(record.created, UTC))


def _line(record: logging.LogRecord) -> str:
    return printable(without_secrets(record.getMessage()).replace("\n", " | "))
