"""`historon requirements`."""

from collections import Counter
from collections.abc import Sequence
from itertools import groupby
from typing import TYPE_CHECKING

import click

from historon.cli.app import App, estate_option, example, json_option, pass_app, where_option
from historon.cli.output import console, count, print_json, print_table, printable, table
from historon.cli.viewing import masks_for
from historon.compare import Unmet, contents_of, large_archives, unmet
from historon.errors import ExitCode
from historon.estate import Estate, RequirementState, Source, requirements_of, select
from historon.store import Store

if TYPE_CHECKING:
    from rich.console import Console

__all__ = ["command"]

_SHOWN = 8  # of one source
_Found = dict[str, list[Unmet] | None]  # by source; None without a good version


@click.command(
    "requirements",
    epilog=example(
        "historon requirements", "historon requirements edge-1", "historon requirements --where role=edge --json"
    ),
)
@click.argument("names", nargs=-1, metavar="[SOURCE]...")
@where_option
@estate_option
@json_option
@pass_app
def command(
    app: App, names: tuple[str, ...], where: tuple[str, ...], *, estate_file: str | None, as_json: bool
) -> int:  # fmt: skip
    """Are the sources as they must be? The exit code says it too.

    Checks the latest good version of each source against the [[requirements]] of the estate file. Rounds do the same,
    and tell when one is no longer met, and when it is met again. The exit code is 1 when one is not met, or when that
    is unknown: a source has no good version, a part cannot be looked into, or the rule's part or each matches nothing.
    """
    estate = app.estate(estate_file)
    sources = select(estate, names, where)
    with app.store(estate) as store:
        about = [source for source in sources if requirements_of(source, estate.requirements)]
        found = {source.name: _check(estate, store, source) for source in about}
    headline = _headline(estate, sources, found)
    if as_json:
        print_json("requirements", headline, [_as_data(source, estate, found[source.name]) for source in about])
    else:
        _print(estate, about, found, headline)
    return ExitCode.FOUND if any(one is None or one for one in found.values()) else ExitCode.WELL


def _check(estate: Estate, store: Store, source: Source) -> list[Unmet] | None:
    good = store.state(source.name).good
    if good is None:
        return None
    rules = requirements_of(source, estate.requirements)
    with large_archives(store, source.name, good) as large:
        return unmet(rules, contents_of(store, source.name, good), masks_for(estate, store, source.name), large)


def _state(told: Sequence[Unmet] | None, rule: str | None = None) -> RequirementState:
    """Of one rule or all; None stands for a source without a good version."""
    if told is None:
        return RequirementState.UNKNOWN
    about = [one for one in told if rule in (None, one.requirement)]
    if any(not one.unknown for one in about):
        return RequirementState.NOT_MET
    return RequirementState.UNKNOWN if about else RequirementState.MET


def _headline(estate: Estate, sources: Sequence[Source], found: _Found) -> str:
    if not estate.requirements:
        return "nothing is required: write [[requirements]] in the estate file"
    without = len(sources) - len(found)
    rest = f"; nothing is required of {count(without, 'source')}" if without else ""
    if not found:
        return f"nothing is required of {'this source' if without == 1 else 'these sources'}"
    failing = sum(_state(one) is RequirementState.NOT_MET for one in found.values())
    unknown = sum(_state(one) is RequirementState.UNKNOWN for one in found.values())
    total = count(len(found), "source")
    verb = "does not meet its" if failing == 1 else "do not meet their"
    told = [f"{failing} of {total} {verb} requirements" if failing else ""]
    told.append(f"unknown for {unknown} of {total}" if unknown else "")
    return "; ".join(filter(None, told)) + rest if any(told) else f"all requirements are met by {total}{rest}"


def _print(estate: Estate, sources: Sequence[Source], found: _Found, headline: str) -> None:
    from rich.text import Text

    screen = console()
    failing = any(_state(one) is RequirementState.NOT_MET for one in found.values())
    unknown = any(_state(one) is RequirementState.UNKNOWN for one in found.values())
    style = "bold red" if failing else "bold yellow" if unknown else "bold green" if found else ""
    screen.print(Text(headline, style), soft_wrap=True)
    if estate.requirements:
        _print_rules(estate, sources, found)
    for source in sources:
        if told := found[source.name]:
            _print_source(source, told, screen)
    if without := [source.name for source in sources if found[source.name] is None]:
        screen.print(Text(f"\nno good version: {printable(', '.join(without))}", "yellow"))


def _print_rules(estate: Estate, sources: Sequence[Source], found: _Found) -> None:
    numbers = ("sources", "met", "not met", "unknown")
    made = table("requirement", *numbers, right=numbers, wrap=())
    for rule in estate.requirements:
        about = [source.name for source in sources if requirements_of(source, [rule])]
        states = Counter(_state(found[name], rule.name) for name in about)
        failing, unknown = states[RequirementState.NOT_MET], states[RequirementState.UNKNOWN]
        met = len(about) - failing - unknown
        style = "bold red" if failing else "yellow" if unknown else "" if about else "dim"
        made.add_row(printable(rule.name), str(len(about)), str(met), str(failing), str(unknown), style=style)
    print_table(made)


def _print_source(source: Source, told: Sequence[Unmet], screen: "Console") -> None:
    from rich.text import Text

    screen.print()
    screen.print(Text(source.name, style="bold"))
    for (name, why), group in groupby(told[:_SHOWN], key=lambda one: (one.requirement, one.why)):
        screen.print(Text.assemble(("  " + printable(name), "yellow"), (f"  {printable(why)}", "dim")))
        for one in group:
            screen.print(Text(f"    {printable(one.what)}"), soft_wrap=True)
    if len(told) > _SHOWN:
        screen.print(Text(f"  {len(told) - _SHOWN} more: historon requirements {source.name} --json", style="dim"))


def _as_data(source: Source, estate: Estate, told: Sequence[Unmet] | None) -> dict[str, object]:
    return {
        "source": source.name,
        "requirements": [rule.name for rule in requirements_of(source, estate.requirements)],
        "state": _state(told),
        "not_met": [
            {"requirement": one.requirement, "lacks": one.lacks, "has": one.has, "section": one.section, "why": one.why}
            for one in told or ()
            if not one.unknown
        ],
        "unknown": [
            {"requirement": one.requirement, "because": one.unknown, "why": one.why}
            for one in told or ()
            if one.unknown
        ],
    }
