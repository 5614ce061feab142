"""`historon vouch`."""

import click

from historon.api import Estate
from historon.base.errors import UsageError
from historon.cli.app import App, estate_option, example, json_option, pass_app
from historon.cli.output import instant, printable
from historon.cli.views.marks import print_marked

__all__ = ["command"]


@click.command(
    "vouch",
    epilog=example(
        "historon diff edge-1 edge-1@18",
        "historon vouch edge-1@18",
        "historon vouch edge-1@18 --withdraw",
        "historon vouch",
    ),
)
@click.argument("version", required=False, metavar="[SOURCE@N]")
@click.option("--withdraw", is_flag=True, help="Mark the version as suspect again.")
@click.option("--yes", is_flag=True, help="Do not ask.")
@estate_option
@json_option
@pass_app
def command(
    app: App, version: str | None, *, withdraw: bool, yes: bool, estate_file: str | None, as_json: bool
) -> None:
    """Mark a suspect version as good.

    Look at the version first. It then counts as any other version, and is the last good one unless a newer one is.
    Later exports are compared with it. Without SOURCE@N: list all vouched versions.
    """
    with app.opened(estate_file) as opened:
        if version is None:
            if withdraw:
                raise UsageError("no version is named", hint="historon vouch SOURCE@N --withdraw")
            print_marked("vouch", opened.store.vouched(), opened.zone, as_json=as_json)
        elif withdraw:
            _withdraw(opened, version)
        else:
            _vouch(app, opened, version, yes=yes)


def _vouch(app: App, opened: Estate, version: str, *, yes: bool) -> None:
    found = opened.version(version)
    name = str(found)
    if not found.good and app.interactive and not yes:
        click.echo(f"{name} is suspect: {printable(found.note or '')}")
        click.confirm("Mark it as good?", abort=True)
    made = found.vouch()
    last = opened.store.state(found.source).good
    newest = "it is" if last == found.number else f"@{last} is newer and stays"
    at = instant(made.at, opened.zone, named=True)
    click.echo(f"{name}, from {at}, is marked as good; {newest} the last good version")


def _withdraw(opened: Estate, version: str) -> None:
    found = opened.version(version).withdraw_vouch()
    last = opened.store.state(found.source).good
    words = f"@{last} is the last good version" if last is not None else f"{found.source} has no good version now"
    click.echo(f"{found.source}@{found.number} is suspect again; {words}")
