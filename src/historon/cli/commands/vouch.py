"""`historon vouch`."""

import click

from historon.cli.app import App, estate_option, example, pass_app
from historon.cli.output import instant, printable

__all__ = ["command"]


@click.command("vouch", epilog=example("historon diff edge-1 edge-1@18", "historon vouch edge-1@18"))
@click.argument("version", metavar="SOURCE@N")
@click.option("--yes", is_flag=True, help="Do not ask.")
@estate_option
@pass_app
def command(app: App, version: str, estate_file: str | None, *, yes: bool) -> None:
    """Take a suspect version for good, on your word.

    Look at it first. It then counts as any other version, and as the last good one unless a newer one is; the next
    export is measured by it.
    """
    with app.opened(estate_file) as opened:
        found = opened.version(version)
        name = f"{found.source}@{found.number}"
        if not found.good and app.interactive and not yes:
            click.echo(f"{name} is suspect: {printable(found.note or '')}")
            click.confirm("Is it good all the same?", abort=True)
        made = opened.vouch(found)
        last = opened.store.state(found.source).good == found.number
    what = "is the last good version now" if last else "is good now; a newer one is the last good version"
    click.echo(f"{name}, from {instant(made.at, opened.estate.zone, named=True)}, {what}")
