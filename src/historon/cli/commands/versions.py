"""`historon versions`."""

from collections.abc import Mapping, Sequence
from datetime import datetime, tzinfo

import click

from historon.base.errors import UsageError
from historon.base.quantities import size_text
from historon.cli.app import App, estate_option, example, json_option, pass_app, where_option
from historon.cli.output import STYLES, instant, print_json, print_table, printable, table
from historon.cli.views import versions as view
from historon.estate import describe
from historon.store import Proof, State, Version

__all__ = ["command"]

_SHOWN = 25


@click.command(
    "versions",
    epilog=example(
        "historon versions edge-1", "historon versions edge-1 --all --json", "historon versions --where role=edge"
    ),
)
@click.argument("source", required=False)
@click.option("--all", "everything", is_flag=True, help="Show all versions, also those that differ only by noise.")
@where_option
@estate_option
@json_option
@pass_app
def command(
    app: App, source: str | None, *, everything: bool, where: tuple[str, ...], estate_file: str | None, as_json: bool
) -> None:
    """List the versions of a source, newest first.

    Each has the number of lines added and removed since the version before. Versions that differ only by masked noise
    are stored, but listed only with --all. With --where: list the versions of several sources together.
    """
    if (source is None) != bool(where):
        raise UsageError("name a source, or give --where", hint="historon versions edge-1")
    with app.opened(estate_file) as opened:
        names = [source] if source is not None else [one.name for one in opened.select(where=where)]
        by_source = {name: opened.source(name).versions() for name in names}
        proofs = {} if as_json else {name: opened.source(name).proofs() for name in names}
    versions = sorted((one for found in by_source.values() for one in found), key=lambda one: (one.at, one.number))
    newest = versions[::-1]
    telling = newest if everything else [version for version in newest if version.state is not State.NOISE]
    shown = telling if everything else telling[:_SHOWN]
    headline = view.headline(source, versions) if source is not None else view.headline_of_several(by_source)
    if as_json:
        print_json("versions", headline, [view.row(version) for version in newest])
        return
    click.echo(headline)
    if shown:
        _print(shown, proofs, app.clock(), opened.zone, several=source is None)
    view.print_left_out(versions, telling, shown)


def _print(
    shown: Sequence[Version], proofs: Mapping[str, Mapping[int, Proof]], now: datetime, zone: tzinfo, *, several: bool
) -> None:
    columns = ("version", f"made ({zone})", "age", "size", "changed lines", "state", "note")
    made = table(*columns, right=("size", "changed lines"))
    for version in shown:
        lines = f"+{version.added} -{version.removed}" if version.added or version.removed else ""
        note = f"held: {version.held}" if version.held is not None else version.note or ""
        if proof := proofs[version.source].get(version.number):
            note = "; ".join(filter(None, (note, str(proof))))
        made.add_row(
            f"{version.source if several else ''}@{version.number}",
            instant(version.at, zone),
            describe(now - version.at),
            size_text(version.size),
            lines,
            version.state,
            printable(note),
            style=STYLES[version.state],
        )
    print_table(made)
