"""`historon demo`."""

import signal
import tempfile
from pathlib import Path

import click

from historon.cli.app import App, example, pass_app
from historon.cli.views import demo as view
from historon.errors import ExitCode, OutsideError

__all__ = ["command"]


@click.command("demo", epilog=example("historon demo", "historon demo /tmp/brackwater --stay"))
@click.argument("folder", required=False, metavar="[DIR]", type=click.Path(file_okay=False, path_type=Path))
@click.option("--stay", is_flag=True, help="Leave the simulated devices running until Ctrl-C, to play with.")
@click.option("--store", metavar="URL", help="Keep the versions in this empty PostgreSQL database, not in a folder.")
@click.option("--store-password", metavar="REFERENCE", help="Where its password is found: env:NAME or file:PATH.")
@pass_app
def command(app: App, folder: Path | None, *, stay: bool, store: str | None, store_password: str | None) -> int:
    """Play a complete example on simulated devices.

    Lays out the estate of a made-up ferry company in DIR (otherwise in a temporary folder), starts its devices
    and servers on loopback, and goes through a week of nights: what you would type, and what you would see.
    Nothing outside DIR is touched.
    """
    try:
        from historon.standins.brackwater import Brackwater, evenings
    except ModuleNotFoundError as exc:
        raise OutsideError(f"the demo needs {exc.name}", hint="pip install 'historon[demo]'") from exc
    place = folder or Path(tempfile.mkdtemp(prefix="historon-demo-")) / "brackwater"
    tour = view.Tour(place, evenings(app.clock()), app.clock())
    tour.say(
        "Brackwater Ferries runs two quays, a yard and an office. Six routers, a firewall, a switch, a load balancer, "
        "a booking server, a door controller, a file server and a mail relay are simulated in this process, on "
        "loopback; they speak SSH, HTTPS, NETCONF and SMTP for real. First, a folder for the estate:"
    )
    code = tour.type("new", str(place))
    if code:
        return code
    estate = Brackwater(place, lambda: tour.now, store or "store", store_password)
    estate.start()
    try:
        tour.say(
            f"Now {place}/historon.toml is filled in: 12 sources, how to ask them, whom to tell. Is anything wrong?"
        )
        if store:
            tour.say("Its versions are to be in a database, which lacks the tables yet:")
            code = tour.type("new", str(place), "--store-only")
            if code:
                return code
        tour.type("doctor", "--estate", str(place))
        tour.say(
            "Before the first night, one source is tried without storing anything. Answers are shown, secrets are not."
        )
        tour.type("rehearse", "saltgate-wall-1", "--estate", str(place))
        for night in range(1, len(tour.nights) + 1):
            tour.dusk(night)
            tour.night(night, estate.pass_day(night))
            tour.type("collect", "--estate", str(place))
        tour.look(estate.relay.letters if estate.relay else [])
        if stay:
            click.echo("\nThe simulated devices stay until Ctrl-C. In another terminal:")
            click.echo(f"  cd {place} && historon collect")
            signal.sigwait({signal.SIGINT, signal.SIGTERM})
    finally:
        estate.stop()
    return ExitCode.WELL
