"""`historon hold`."""

import click

from historon.base.errors import UsageError
from historon.cli.app import App, estate_option, example, json_option, pass_app
from historon.cli.views.marks import print_marked

__all__ = ["command"]


@click.command(
    "hold",
    epilog=example(
        'historon hold edge-1@17 --because "before the move"', "historon hold edge-1@17 --lift", "historon hold"
    ),
)
@click.argument("version", required=False, metavar="[SOURCE[@WHEN]]")
@click.option(
    "--because",
    "reason",
    metavar="REASON",
    default="by hand",
    show_default=True,
    help="Reason; shown beside the version.",
)
@click.option("--lift", is_flag=True, help="End the hold: retention applies to the version again.")
@estate_option
@json_option
@pass_app
def command(app: App, version: str | None, reason: str, *, lift: bool, estate_file: str | None, as_json: bool) -> None:
    """Keep a version regardless of retention, until --lift.

    Without SOURCE: list all held versions.
    """
    with app.opened(estate_file) as opened:
        if version is None:
            if lift:
                raise UsageError("no version is named", hint="historon hold SOURCE@N --lift")
            print_marked("hold", opened.store.held(), opened.zone, as_json=as_json)
            return
        found = opened.version(version)
        if lift:
            found.lift_hold()
        else:
            found.hold(reason)
    name = str(found)
    if not lift:
        click.echo(f"{name} is held: {reason}")
    elif found.held is None:
        click.echo(f"{name} is not held")
    else:
        click.echo(f"{name} is no longer held: retention applies to it again")
