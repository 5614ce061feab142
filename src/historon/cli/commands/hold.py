"""`historon hold`."""

import click

from historon.cli.app import App, estate_option, example, pass_app
from historon.store import Reference, resolve

__all__ = ["command"]


@click.command("hold", epilog=example('historon hold edge-1@17 --reason "before the move"'))
@click.argument("version", metavar="SOURCE[@WHEN]")
@click.option("--reason", default="by hand", show_default=True, help="Why; it stands beside the version.")
@estate_option
@pass_app
def command(app: App, version: str, reason: str, estate_file: str | None) -> None:
    """Keep a version whatever retention says."""
    estate = app.estate(estate_file)
    with app.store(estate) as store:
        found = resolve(store, Reference.parse(version), now=app.clock(), zone=estate.zone)
        store.hold(found.source, found.number, reason)
    click.echo(f"{found.source}@{found.number} is held: {reason}")
