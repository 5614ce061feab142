"""`historon serve`."""

import asyncio
import json
import logging
import signal
import sys
from datetime import UTC, datetime
from typing import Any

import click

from historon.cli.app import App, estate_option, example, pass_app
from historon.cli.output import printable
from historon.errors import ExitCode
from historon.store import FolderStore

__all__ = ["command"]


@click.command(
    "serve",
    epilog=example("historon serve", "historon serve --once", "historon serve --log json --estate /etc/historon"),
)
@click.option("--once", is_flag=True, help="Do what is due now, and end: for cron and systemd timers.")
@click.option(
    "--log", "form", type=click.Choice(["plain", "json"]), default="plain", show_default=True, help="Form of the log."
)
@click.option("-q", "--quiet", is_flag=True, help="Log only what is wrong.")
@estate_option
@pass_app
def command(app: App, *, once: bool, form: str, quiet: bool, estate_file: str | None) -> int:
    """Keep the timetable.

    Collects what is due, by the timetables of the estate file, until it is told to stop (Ctrl-C or SIGTERM). Rounds in
    the middle are then ended cleanly. A changed estate file is taken up; a wrong one is told of, and the old one stays
    in force. After a downtime each source is collected once. One service at a time keeps the timetables of a store.
    With --once the exit code is 3 when a source failed or is suspect.
    """
    from historon.timetable.service import Service

    _log_to_stderr(form, quiet=quiet)
    estate = app.estate(estate_file)
    service = Service(
        estate.file, lambda one: FolderStore(one.path(one.settings.store), indexed=one.settings.index), app.clock
    )

    async def main() -> None:
        loop = asyncio.get_running_loop()
        for number in (signal.SIGTERM, signal.SIGINT):
            loop.add_signal_handler(number, service.stop)
        await service.run(once=once)

    asyncio.run(main())
    return ExitCode.SOURCES if once and service.troubled else ExitCode.WELL


def _log_to_stderr(form: str, *, quiet: bool) -> None:
    handler = logging.StreamHandler(sys.stderr)
    handler.setFormatter(_Json() if form == "json" else _Plain())
    log = logging.getLogger("historon")
    log.handlers = [handler]
    log.setLevel(logging.WARNING if quiet else logging.INFO)
    log.propagate = False


class _Plain(logging.Formatter):
    """One line: instant, level, message. What came from outside cannot act on a terminal or forge a line."""

    def format(self, record: logging.LogRecord) -> str:
        return f"{_instant(record)} {record.levelname.lower():<7} {_line(record)}"


class _Json(logging.Formatter):
    """One JSON object a line."""

    def format(self, record: logging.LogRecord) -> str:
        data: dict[str, Any] = {"at": _instant(record), "level": record.levelname.lower(), "message": _line(record)}
        return json.dumps(data, ensure_ascii=False)


def _instant(record: logging.LogRecord) -> str:
    return datetime.fromtimestamp(record.created, UTC).isoformat(timespec="milliseconds").replace("+00:00", "Z")


def _line(record: logging.LogRecord) -> str:
    return printable(record.getMessage().replace("\n", " | "))
