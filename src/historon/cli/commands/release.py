"""`historon release`."""

import click

from historon.cli.app import App, estate_option, example, pass_app
from historon.store import Reference, resolve

__all__ = ["command"]


@click.command("release", epilog=example("historon release edge-1@17"))
@click.argument("version", metavar="SOURCE[@WHEN]")
@estate_option
@pass_app
def command(app: App, version: str, estate_file: str | None) -> None:
    """Let retention decide about a held version again."""
    estate = app.estate(estate_file)
    with app.store(estate) as store:
        found = resolve(store, Reference.parse(version), now=app.clock(), zone=estate.zone)
        store.hold(found.source, found.number, None)
    was = "was not held" if found.held is None else "is no longer held"
    click.echo(f"{found.source}@{found.number} {was}")
