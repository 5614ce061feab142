"""`historon changes`."""

from collections.abc import Callable, Iterator, Sequence
from itertools import groupby

import click

from historon.api import Changes
from historon.base.errors import UsageError
from historon.cli.app import App, estate_option, example, json_option, pass_app, where_option
from historon.cli.output import console, print_json, print_pruned
from historon.cli.styled import Text
from historon.cli.views import changes as view
from historon.estate import Estate
from historon.insight import Family, families
from historon.store import Changed

__all__ = ["command"]

_SHOWN = 20


@click.command(
    "changes",
    epilog=example(
        "historon changes",
        "historon changes --since 30d --by day",
        "historon changes --by site",
        "historon changes k3fa",
    ),
)
@click.argument("handle", required=False)
@click.option(
    "--since",
    default="7d",
    show_default=True,
    metavar="WHEN",
    help="Look back to WHEN, such as 24h, 7d or 2026-06-14.",
)
@click.option("--by", metavar="LABEL", help="Group by a label such as site, or by day.")
@click.option("--all", "everything", is_flag=True, help="Show all families, not only the first twenty.")
@where_option
@estate_option
@json_option
@pass_app
def command(
    app: App,
    handle: str | None,
    since: str,
    by: str | None,
    where: tuple[str, ...],
    *,
    everything: bool,
    estate_file: str | None,
    as_json: bool,
) -> None:
    """List changes across the estate; equal changes are shown once.

    The same edit on many sources is one family; names, addresses and numbers may differ in it. Changes of access,
    secrets or routes come first. HANDLE, from the list, shows one family: its forms, and the sources that have each.
    """
    with app.opened(estate_file) as opened:
        changes = opened.changes(since, where=where)
        if handle is not None:
            view.print_closer(opened, changes, handle, since, as_json=as_json)
            return
        groups = list(_grouped(opened.described, changes, by))
        limit = None if everything else _SHOWN
        headline = view.headline(changes, since)
        pruned = opened.pruned_versions(where=where, since=since)
        if as_json:
            print_json(
                "changes",
                headline,
                [view.as_data(opened, changes, one, group) for group, some in groups for one in some],
                pruned_versions=pruned,
            )
            return
        screen = console()
        screen.print(headline, soft_wrap=True)
        if changes.families:
            screen.print(Text(f"instants are in {opened.zone}\n", "dim"))
        view.print_all(opened, changes, groups, limit)
        print_pruned(pruned, f"since {since}")


def _grouped(estate: Estate, changes: Changes, by: str | None) -> Iterator[tuple[str, Sequence[Family]]]:
    """The families under a heading each; a family stands in every group that a member of it belongs to."""
    if by is None:
        yield "", changes.families
        return
    key = _key(estate, by)
    for group, members in groupby(sorted(changes.changed, key=key), key=key):
        yield group, families(members)


def _key(estate: Estate, by: str) -> Callable[[Changed], str]:
    if by == "day":
        return lambda one: f"{one.at.astimezone(estate.zone):%Y-%m-%d}"
    if not any(by in source.labels for source in estate.sources.values()):
        known = sorted({label for source in estate.sources.values() for label in source.labels})
        raise UsageError(f'no source has the label "{by}"', hint=f"groups are: day, {', '.join(known)}")

    def label(one: Changed) -> str:
        source = estate.sources.get(one.source)
        return source.labels.get(by, "-") if source else "-"

    return label
