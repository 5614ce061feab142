"""`historon find`."""

import click

from historon.cli.app import (
    App,
    estate_option,
    example,
    json_option,
    pass_app,
    query_options,
    reveal_option,
    where_option,
)
from historon.cli.output import count, print_json, print_pruned, printable
from historon.cli.views import find as view

__all__ = ["command"]

_SHOWN = 200
_NAMED = 5  # parts that were not looked into


@click.command(
    "find",
    epilog=example(
        "historon find 10.20.0.9",
        "historon find 'permit any' --where role=edge",
        "historon find -e 'time-server 10\\.20\\.\\d+' --at 2026-06-14",
        "historon find shutdown --ever",
    ),
)
@click.argument("text")
@where_option
@click.option("--at", "when", metavar="WHEN", help="Search the versions as of WHEN: a date, an instant or an age.")
@click.option("--ever", is_flag=True, help="Search all versions; show when each line was added and removed.")
@query_options
@click.option("--all", "everything", is_flag=True, help=f"Show all lines that match, not only the first {_SHOWN}.")
@reveal_option
@estate_option
@json_option
@pass_app
def command(
    app: App,
    text: str,
    where: tuple[str, ...],
    when: str | None,
    *,
    ever: bool,
    expression: bool,
    exact_case: bool,
    everything: bool,
    reveal: bool,
    estate_file: str | None,
    as_json: bool,
) -> None:
    """Search all sources for a text, now or in all versions.

    Searches the latest version of each source, archives included, and shows each line under its path. Upper and lower
    case are the same. Binary parts are not searched. Parts over 16.8 MB and archives that are damaged or encrypted are
    not searched either, and are listed.
    """
    with app.opened(estate_file) as opened:
        search = opened.find(
            text, where=where, at=when, ever=ever, expression=expression, exact_case=exact_case, reveal=reveal
        )
        oldest = (
            {name: opened.source(name).oldest_kept() for name in {hit.source for hit in search.hits}} if ever else {}
        )
        pruned = opened.pruned_versions(where=where) if ever else 0
    found, closed = search.hits, search.closed
    headline = view.headline(found, search.sources, text, closed)
    if as_json:
        print_json(
            "find",
            headline,
            [view.as_data(hit, ever=ever, oldest=oldest) for hit in found],
            not_searched=view.beside(closed),
            **({"pruned_versions": pruned} if ever else {}),
        )
        return
    click.echo(printable(headline))
    view.print_all(found if everything else found[:_SHOWN], opened.zone, ever=ever, oldest=oldest)
    if len(found) > _SHOWN and not everything:
        click.echo(f"not shown: {count(len(found) - _SHOWN, 'line')} (--all)")
    print_pruned(pruned, "of these sources")
    for one in view.beside(closed)[:_NAMED]:
        click.echo(printable(f"not searched: {one['source']} {one['part']}, which {one['why']}"))
    if len(closed) > _NAMED:
        click.echo(f"not searched: {count(len(closed) - _NAMED, 'more part')} (--json names them all)")
