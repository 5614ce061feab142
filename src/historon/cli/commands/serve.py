"""`historon serve`."""

import asyncio
import logging
import os
import signal
import threading
from collections.abc import Iterator
from contextlib import contextmanager
from typing import TYPE_CHECKING

import click

from historon.api import find_estate_file
from historon.cli.app import App, estate_option, example, pass_app
from historon.cli.views import serve as view
from historon.errors import ExitCode, OutsideError
from historon.store import open_store

if TYPE_CHECKING:
    from historon.timetable.health import HealthFigures
    from historon.timetable.service import Service

__all__ = ["command"]

_PATIENCE_S = 55.0  # after which the service is ended in any case, once it was asked to
_LEVEL = click.Choice(["debug", "info", "warning", "error"])


@click.command(
    "serve",
    epilog=example(
        "historon serve", "historon serve --once", "historon serve --wait --log json --port 9300 --estate /etc/historon"
    ),
)
@click.option("--once", is_flag=True, help="Do what is due now, and end: for cron and systemd timers.")
@click.option("--wait", is_flag=True, help="While another service keeps the timetables, stand by; then take over.")
@click.option(
    "--log", "form", type=click.Choice(["plain", "json"]), default="plain", show_default=True, help="Form of the log."
)
@click.option("--level", type=_LEVEL, default="info", show_default=True, help="Lowest severity to log.")
@click.option("--log-file", metavar="FILE", help="Log there too; reopened when it was moved away.")
@click.option("--log-file-level", type=_LEVEL, default="debug", show_default=True, help="Lowest severity to log there.")
@click.option("--port", type=click.IntRange(0, 65535), help="Answer /health and /metrics on loopback; 0 for any port.")
@estate_option
@pass_app
def command(
    app: App,
    *,
    once: bool,
    wait: bool,
    form: str,
    level: str,
    log_file: str | None,
    log_file_level: str,
    port: int | None,
    estate_file: str | None,
) -> int:
    """Keep the timetable.

    Collects what is due, by the timetables of the estate file, until it is told to stop (Ctrl-C or SIGTERM). Rounds in
    the middle are then ended cleanly. A changed estate file takes effect by itself; an invalid one is reported, and the
    previous settings stay in effect. After a downtime each source is collected once. One service at a time keeps the
    timetables of a store; with --wait a second one, here or on another machine that shares the store, takes over when
    the first is gone. With --once the exit code is 3 when a source failed or is suspect, and 6 when only a notice could
    not be sent.

    Under systemd each line has its priority for the journal. At level debug each step of each source is logged, with
    its time. With --port, /health answers 200 while the service is well, and /metrics gives figures in the OpenMetrics
    format; nobody but this machine can ask.
    """
    from historon.timetable.service import Service

    view.log_to(form, level, log_file, log_file_level, journal=app.journal)
    service = Service(find_estate_file(estate_file), open_store, app.clock)

    async def main() -> None:
        loop = asyncio.get_running_loop()
        for number in (signal.SIGTERM, signal.SIGINT):
            loop.add_signal_handler(number, _stop, service)
        await service.run(once=once, wait=wait)

    with _listening(service.figures, app, port):
        asyncio.run(main())
    if once and service.refused:
        return ExitCode.ESTATE
    if once and service.troubled:
        return ExitCode.SOURCES
    return ExitCode.OUTSIDE if once and service.unsent else ExitCode.WELL


def _stop(service: "Service") -> None:
    """Let it end; whatever hangs then, a database that does not answer or a disk, is left after a while."""
    service.stop()
    watchdog = threading.Timer(_PATIENCE_S, _give_up)
    watchdog.daemon = True
    watchdog.start()


def _give_up() -> None:
    words = "did not end within %g s, and is ended now; what was not recorded is made up for at the next start"
    logging.getLogger("historon.service").error(words, _PATIENCE_S)
    os._exit(ExitCode.OUTSIDE)


@contextmanager
def _listening(figures: "HealthFigures", app: App, port: int | None) -> Iterator[None]:
    if port is None:
        yield
        return
    from historon.timetable.health import HealthServer

    log = logging.getLogger("historon.service")
    try:
        server = HealthServer(figures, app.clock, port)
    except OutsideError as exc:
        log.error("%s: nobody is answered there; everything else is done", exc.message)
        yield
        return
    with server:
        log.info("health and metrics on http://127.0.0.1:%s", server.port)
        yield
