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
from historon.base.errors import ExitCode, OutsideError
from historon.cli.app import App, estate_option, example, pass_app
from historon.cli.views import serve as view
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
        "historon serve",
        "historon serve --once",
        "historon serve --wait --log-format json --port 9300 --estate /etc/historon",
    ),
)
@click.option("--once", is_flag=True, help="Do everything that is due now, then exit: for cron and systemd timers.")
@click.option("--wait", is_flag=True, help="Stand by while another service runs on this store, then take over.")
@click.option(
    "--log-format",
    "form",
    type=click.Choice(["plain", "json"]),
    default="plain",
    show_default=True,
    help="Format of the log.",
)
@click.option("--log-level", "level", type=_LEVEL, default="info", show_default=True, help="Lowest severity to log.")
@click.option("--log-file", metavar="FILE", help="Also log to FILE; reopened after rotation.")
@click.option(
    "--log-file-level", type=_LEVEL, default="debug", show_default=True, help="Lowest severity to log to FILE."
)
@click.option(
    "--port",
    metavar="PORT",
    type=click.IntRange(0, 65535),
    help="Serve /health and /metrics on this port, on loopback only; 0 takes any free port. [default: no port]",
)
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
    """Run the service: collect on schedule.

    Collects by the timetables of the estate file until Ctrl-C or SIGTERM. Rounds in progress are then ended cleanly. A
    changed estate file takes effect automatically; an invalid one is reported, and the previous settings stay in
    effect. After a downtime each source is collected once. Only one service runs on a store; with --wait a second one
    stands by, here or on another machine that shares the store, and takes over. With --once the exit code is 3 when a
    source failed or is suspect, and 6 when only a notice could not be sent.

    Under systemd each line has its priority for the journal. At level debug each step of each source is logged with its
    duration. With --port, /health answers 200 while the service is well, and /metrics gives figures in the OpenMetrics
    format, on loopback only.
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
    words = "did not end within %g s and is ended now; the next start collects what was not recorded"
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
        log.error("%s: the port cannot be used; everything else goes on", exc.message)
        yield
        return
    with server:
        log.info("health and metrics on http://127.0.0.1:%s", server.port)
        yield
