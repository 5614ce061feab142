"""`historon demo`."""

import signal
import tempfile
from pathlib import Path

import click

from historon.base.errors import ExitCode, OutsideError
from historon.cli.app import App, example, pass_app
from historon.cli.views import demo as view

__all__ = ["command"]


@click.command("demo", epilog=example("historon demo", "historon demo /tmp/brackwater --stay"))
@click.argument("folder", required=False, metavar="[DIR]", type=click.Path(file_okay=False, path_type=Path))
@click.option("--full", is_flag=True, help="Show all nights and commands. [default: a story of about 120 lines]")
@click.option("--stay", is_flag=True, help="Keep the simulated devices running until Ctrl-C.")
@click.option("--store", metavar="URL", help="Store the versions in this empty PostgreSQL database, not in a folder.")
@click.option(
    "--store-password", metavar="REFERENCE", help="Reference to the database's password: env:NAME or file:PATH."
)
@pass_app
def command(
    app: App, folder: Path | None, *, full: bool, stay: bool, store: str | None, store_password: str | None
) -> int:
    """Play a complete example on simulated devices.

    The demo makes the estate of a made-up ferry company in DIR [default: a temporary folder]. It starts the devices and
    servers on loopback and plays a week of nights: the commands that you would enter, and their output. Nothing outside
    DIR is touched.
    """
    try:
        from historon.standins.brackwater import Brackwater, evenings
    except ModuleNotFoundError as exc:
        raise OutsideError(
            f"the demo needs {exc.name}, which is not installed", hint="install the extra demo: docs/install.md"
        ) from exc
    place = folder or Path(tempfile.mkdtemp(prefix="historon-demo-")) / "brackwater"
    tour = view.Tour(place, evenings(app.clock()), app.clock(), full=full)
    tour.say(
        "Brackwater Ferries runs two quays, a yard and an office. Six routers, a firewall, a switch, a "
        "load balancer, a booking server, a door controller, a file server and a mail relay are simulated "
        "in this process, on loopback. They really speak SSH, HTTPS, NETCONF and SMTP. First, a folder for "
        "the estate:"
    )
    code = tour.type("new", str(place))
    if code:
        return code
    estate = Brackwater(place, lambda: tour.now, store or "store", store_password)
    estate.start()
    try:
        tour.say(
            f"Now {place}/historon.toml is complete: 12 sources, how to collect them, and whom to notify. "
            "Does doctor find a mistake?",
            aside=True,
        )
        if store:
            tour.say("The versions will be in a database, which has no tables yet:")
            code = tour.type("new", str(place), "--store-only")
            if code:
                return code
        tour.type("doctor", "--estate", str(place), aside=True)
        tour.say(
            "Before the first night, rehearse one source. Nothing is stored; answers are shown with secrets masked.",
            aside=True,
        )
        tour.type("rehearse", "saltgate-wall-1", "--estate", str(place), aside=True)
        for night in range(1, len(tour.nights) + 1):
            tour.dusk(night)
            tour.night(night, estate.pass_day(night))
            tour.collect(night, estate.relay.letters if estate.relay else [])
        tour.look(estate.relay.letters if estate.relay else [])
        if stay:
            click.echo("\nThe simulated devices run until Ctrl-C. In another terminal:")
            click.echo(f"  cd {place} && historon collect")
            signal.sigwait({signal.SIGINT, signal.SIGTERM})
    finally:
        estate.stop()
    return ExitCode.WELL
