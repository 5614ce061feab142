"""`historon expect`."""

from collections.abc import Sequence
from itertools import groupby

import click

from historon.cli.app import App, estate_option, example, json_option, pass_app, where_option
from historon.cli.output import console, count, print_json, print_table, printable, table
from historon.cli.viewing import masks_for
from historon.compare import Breach, breaches, comparable, expected_of
from historon.errors import ExitCode
from historon.estate import Estate, Source, select
from historon.store import Store

__all__ = ["command"]

_SHOWN = 8  # breaches of one source
_Found = dict[str, list[Breach] | None]  # by source; None without a version


@click.command(
    "expect", epilog=example("historon expect", "historon expect edge-1", "historon expect --where role=edge --json")
)
@click.argument("names", nargs=-1, metavar="[SOURCE]...")
@where_option
@estate_option
@json_option
@pass_app
def command(
    app: App, names: tuple[str, ...], where: tuple[str, ...], *, estate_file: str | None, as_json: bool
) -> int:  # fmt: skip
    """Are the sources as the estate file expects? The exit code says it too.

    Holds the latest version of each source against its [[expectations]]. Rounds do the same and tell when one breaks
    or mends. The exit code is 1 when one is broken.
    """
    estate = app.estate(estate_file)
    sources = select(estate, names, where)
    if not estate.expectations:
        click.echo("nothing is expected: describe it in [[expectations]] of the estate file")
        return ExitCode.WELL
    with app.store(estate) as store:
        found = {source.name: _check(estate, store, source) for source in sources}
    if as_json:
        print_json([_as_data(source, estate, found[source.name]) for source in sources])
    else:
        _print(estate, sources, found)
    return ExitCode.FOUND if any(found.values()) else ExitCode.WELL


def _check(estate: Estate, store: Store, source: Source) -> list[Breach] | None:
    good = store.state(source.name).good
    rules = expected_of(source, estate.expectations)
    if good is None or not rules:
        return [] if good is not None else None
    parts = {part.name: comparable(part, store) for part in store.parts(source.name, good)}
    return breaches(rules, parts, masks_for(estate, store, source.name))


def _print(estate: Estate, sources: Sequence[Source], found: _Found) -> None:
    from rich.text import Text

    made = table("expectation", "sources", "kept", "broken", "unknown", right=("sources", "kept", "broken", "unknown"))
    for rule in estate.expectations:
        about = [source.name for source in sources if expected_of(source, [rule])]
        broken = sum(any(one.expectation == rule.name for one in found[name] or ()) for name in about)
        unknown = sum(found[name] is None for name in about)
        kept = len(about) - broken - unknown
        style = "bold red" if broken else "" if about else "dim"
        made.add_row(printable(rule.name), str(len(about)), str(kept), str(broken), str(unknown), style=style)
    print_table(made)
    screen = console()
    for source in sources:
        if told := found[source.name]:
            screen.print()
            screen.print(Text(source.name, style="bold"))
            for (name, why), group in groupby(told[:_SHOWN], key=lambda one: (one.expectation, one.why)):
                screen.print(Text.assemble(("  " + printable(name), "yellow"), (f"  {printable(why)}", "dim")))
                for one in group:
                    screen.print(Text(f"    {printable(one.what)}"), soft_wrap=True)
            if len(told) > _SHOWN:
                screen.print(Text(f"  {len(told) - _SHOWN} more: historon expect {source.name} --json", style="dim"))
    bad = sum(bool(one) for one in found.values())
    click.echo(f"\n{count(bad, 'source')} of {len(sources)} not as expected" if bad else "\nall is as expected")


def _as_data(source: Source, estate: Estate, told: list[Breach] | None) -> dict[str, object]:
    return {
        "source": source.name,
        "expectations": [rule.name for rule in expected_of(source, estate.expectations)],
        "checked": told is not None,
        "broken": [
            {"expectation": one.expectation, "lacks": one.lacks, "has": one.has, "section": one.section, "why": one.why}
            for one in told or ()
        ],
    }
