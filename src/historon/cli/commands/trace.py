"""`historon trace`."""

import click

from historon.cli.app import (
    App,
    estate_option,
    example,
    json_option,
    pass_app,
    query_options,
    reveal_option,
)
from historon.cli.output import count, print_json, print_pruned, printable
from historon.cli.views import trace as view

__all__ = ["command"]

_SHOWN = 20


@click.command(
    "trace", epilog=example("historon trace edge-1 'vlan 131'", "historon trace edge-1 -e 'permit .* any' --json")
)
@click.argument("source")
@click.argument("text")
@query_options
@click.option("--all", "everything", is_flag=True, help=f"Show all lines that match, not only the first {_SHOWN}.")
@reveal_option
@estate_option
@json_option
@pass_app
def command(
    app: App,
    source: str,
    text: str,
    *,
    expression: bool,
    exact_case: bool,
    everything: bool,
    reveal: bool,
    estate_file: str | None,
    as_json: bool,
) -> None:
    """Show the history of a line: when it was added, edited, moved and removed.

    Each line that contains TEXT now, or contained it once, is shown with its whole history, newest first.
    """
    with app.opened(estate_file) as opened:
        known = opened.source(source)
        traced = known.trace(text, expression=expression, exact_case=exact_case, reveal=reveal)
        versions = sum(version.good for version in known.versions())
        oldest = known.oldest_kept()
        pruned = opened.pruned_versions(source)
    lives, closed = traced.lives, [{"part": part, "why": why} for part, why in sorted(traced.closed.items())]
    headline = view.headline(text, source, lives, versions)
    if as_json:
        print_json(
            "trace",
            headline,
            [view.as_data(life, oldest) for life in lives],
            not_searched=closed,
            pruned_versions=pruned,
        )
        return
    click.echo(printable(headline) + (f" (instants are in {opened.zone})" if lives else ""))
    for life in lives if everything else lives[:_SHOWN]:
        view.print_life(life, source, opened.zone, oldest)
    if len(lives) > _SHOWN and not everything:
        click.echo(f"not shown: {count(len(lives) - _SHOWN, 'line')} (--all)")
    print_pruned(pruned, f"of {source}")
    for one in closed[:_SHOWN]:
        click.echo(printable(f"not searched in all versions: {one['part']}, which {one['why']}"))
