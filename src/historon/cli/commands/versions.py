"""`historon versions`."""

import click

from historon.cli.app import App, estate_option, example, json_option, pass_app
from historon.cli.output import STYLES, instant, print_json, print_table, printable, table
from historon.cli.views import versions as view
from historon.estate import describe
from historon.sizes import size_text
from historon.store import State

__all__ = ["command"]

_SHOWN = 25


@click.command("versions", epilog=example("historon versions edge-1", "historon versions edge-1 --all --json"))
@click.argument("source")
@click.option("--all", "everything", is_flag=True, help="Include versions that differ only by noise.")
@estate_option
@json_option
@pass_app
def command(app: App, source: str, *, everything: bool, estate_file: str | None, as_json: bool) -> None:
    """List the versions of a source, newest first.

    Each has the number of lines added and removed since the version before. Versions that differ only by masked noise
    are stored, but listed only with --all.
    """
    with app.opened(estate_file) as opened:
        versions = opened.versions(source)
    newest = versions[::-1]
    telling = newest if everything else [version for version in newest if version.state is not State.NOISE]
    shown = telling if everything else telling[:_SHOWN]
    headline = view.headline(source, versions)
    if as_json:
        print_json("versions", headline, [view.row(version) for version in newest])
        return
    now, zone = app.clock(), opened.estate.zone
    proofs = opened.proofs(source)
    click.echo(headline)
    columns = ("version", f"made ({zone})", "age", "size", "changed lines", "state", "note")
    made = table(*columns, right=("size", "changed lines"))
    for version in shown:
        lines = f"+{version.added} -{version.removed}" if version.added or version.removed else ""
        note = f"held: {version.held}" if version.held is not None else version.note or ""
        if version.number in proofs:
            note = "; ".join(filter(None, (note, str(proofs[version.number]))))
        made.add_row(
            f"@{version.number}",
            instant(version.at, zone),
            describe(now - version.at),
            size_text(version.size),
            lines,
            version.state,
            printable(note),
            style=STYLES[version.state],
        )
    if shown:
        print_table(made)
    view.print_left_out(versions, telling, shown)
