"""`historon standins`."""

import signal
import tempfile
from pathlib import Path
from typing import TYPE_CHECKING

import click

from historon.base.errors import ExitCode, OutsideError, UsageError
from historon.cli.app import App, example, pass_app
from historon.cli.output import print_table, table
from historon.estate import lay_out
from historon.store import FolderStore

if TYPE_CHECKING:
    from historon.standins.brackwater import Brackwater

__all__ = ["command"]


@click.command(
    "standins", epilog=example("historon standins /tmp/play", "historon standins --fault saltgate-wall-1=expires")
)
@click.argument("folder", required=False, metavar="[DIR]", type=click.Path(file_okay=False, path_type=Path))
@click.option(
    "--fault",
    "faults",
    multiple=True,
    metavar="DEVICE=FAULT",
    help="Make a device misbehave; DEVICE=? lists the faults.",
)
@pass_app
def command(app: App, folder: Path | None, *, faults: tuple[str, ...]) -> int:
    """Run simulated devices on loopback, to try Historon on.

    Makes an estate for them in DIR [default: a temporary folder], shows their ports and fingerprints, and runs until
    Ctrl-C.
    """
    try:
        from historon.standins.brackwater import Brackwater
    except ModuleNotFoundError as exc:
        raise OutsideError(
            f"the simulated devices need {exc.name}, which is not installed",
            hint="install the extra demo: docs/install.md",
        ) from exc
    place = folder or Path(tempfile.mkdtemp(prefix="historon-standins-")) / "brackwater"
    lay_out(place)
    FolderStore.create(place / "store").close()
    estate = Brackwater(place, app.clock)
    estate.start()
    try:
        for fault in faults:
            _break_down(estate, fault)
        estate.doors.push(app.clock())
        made = table("device", "speaks", "port", "known by", right=["port"], wrap=["known by"])
        for name, over, port, pin in estate.servers:
            made.add_row(name, over, str(port), pin)
        print_table(made)
        click.echo("\nAll of them listen on 127.0.0.1. In another terminal:")
        click.echo(f"  cd {place} && historon collect")
        click.echo("Ctrl-C stops them.")
        signal.sigwait({signal.SIGINT, signal.SIGTERM})
    finally:
        estate.stop()
    return ExitCode.WELL


def _break_down(estate: "Brackwater", written: str) -> None:
    name, _, fault = written.partition("=")
    try:
        estate.break_down(name, fault)
    except LookupError as exc:
        raise UsageError(f"--fault {written}: {exc.args[0]}") from exc
