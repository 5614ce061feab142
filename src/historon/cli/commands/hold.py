"""`historon hold`."""

import click

from historon.cli.app import App, estate_option, example, pass_app

__all__ = ["command"]


@click.command(
    "hold", epilog=example('historon hold edge-1@17 --reason "before the move"', "historon hold edge-1@17 --lift")
)
@click.argument("version", metavar="SOURCE[@WHEN]")
@click.option("--reason", default="by hand", show_default=True, help="Why; it is shown beside the version.")
@click.option("--lift", is_flag=True, help="End the hold: let retention decide about the version again.")
@estate_option
@pass_app
def command(app: App, version: str, reason: str, *, lift: bool, estate_file: str | None) -> None:
    """Keep a version whatever retention says; --lift ends it."""
    with app.opened(estate_file) as opened:
        found = opened.version(version)
        opened.hold(found, None if lift else reason)
    name = f"{found.source}@{found.number}"
    if not lift:
        click.echo(f"{name} is held: {reason}")
        return
    click.echo(
        f"{name} was not held" if found.held is None else f"{name} is no longer held: retention decides about it"
    )
