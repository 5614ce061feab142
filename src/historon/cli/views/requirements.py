"""`historon requirements`: what it shows."""

from collections import Counter
from collections.abc import Sequence
from itertools import groupby

from historon.api import Required
from historon.cli.output import console, count, print_table, printable, table
from historon.cli.styled import Screen, Text
from historon.estate import Estate, RequirementState, Source
from historon.insight import Unmet

__all__ = ["as_data", "headline", "print_all"]

_SHOWN = 8  # of one source
_HEADLINES = {RequirementState.NOT_MET: "bold red", RequirementState.UNKNOWN: "bold yellow"}  # the gravest first


def headline(estate: Estate, found: Sequence[Required], without: int) -> str:
    """How many meet what is required, in one line."""
    if not estate.requirements:
        return "no requirement is set: add [[requirements]] to the estate file"
    rest = f"; no requirement is set for {count(without, 'source')}" if without else ""
    if not found:
        return f"no requirement is set for {'this source' if without == 1 else 'these sources'}"
    failing = sum(one.state is RequirementState.NOT_MET for one in found)
    unknown = sum(one.state is RequirementState.UNKNOWN for one in found)
    total = count(len(found), "source")
    verb = "does not meet its" if failing == 1 else "do not meet their"
    told = [f"{failing} of {total} {verb} requirements" if failing else ""]
    told.append(f"unknown for {unknown} of {total}" if unknown else "")
    if any(told):
        return "; ".join(filter(None, told)) + rest
    return f"all requirements are met by {total}{rest}"


def print_all(estate: Estate, found: Sequence[Required], headline: str) -> None:
    """The rules, and who does not meet them."""
    screen = console()
    states = {one.state for one in found}
    styles = [style for state, style in _HEADLINES.items() if state in states]
    style = [*styles, "bold green"][0] if found else ""
    screen.print(Text(headline, style), soft_wrap=True)
    if estate.requirements:
        _print_rules(estate, found)
    for one in found:
        if one.unmet:
            _print_source(one.source, one.unmet, screen)
    without = [one.source.name for one in found if one.unmet is None]
    if without:
        screen.print(Text(f"\nno good version: {printable(', '.join(without))}", "yellow"))


def _print_rules(estate: Estate, found: Sequence[Required]) -> None:
    numbers = ("sources", "met", "not met", "unknown")
    made = table("requirement", *numbers, right=numbers, wrap=())
    for rule in estate.requirements:
        about = [one for one in found if rule in one.rules]
        states = Counter(one.state_of(rule.name) for one in about)
        failing, unknown = states[RequirementState.NOT_MET], states[RequirementState.UNKNOWN]
        met = len(about) - failing - unknown
        style = "" if about else "dim"
        if failing or unknown:
            style = "bold red" if failing else "yellow"
        made.add_row(printable(rule.name), str(len(about)), str(met), str(failing), str(unknown), style=style)
    print_table(made)


def _print_source(source: Source, told: Sequence[Unmet], screen: Screen) -> None:
    screen.print()
    screen.print(Text(source.name, style="bold"))
    for (name, why), group in groupby(told[:_SHOWN], key=lambda one: (one.requirement, one.why)):
        screen.print(Text.assemble(("  " + printable(name), "yellow"), (f"  {printable(why)}", "dim")))
        for one in group:
            screen.print(Text(f"    {printable(one.what)}"), soft_wrap=True)
    if len(told) > _SHOWN:
        screen.print(Text(f"  {len(told) - _SHOWN} more: historon requirements {source.name} --json", style="dim"))


def as_data(required: Required) -> dict[str, object]:
    """A source and what is required of it, for programs."""
    told = required.unmet
    return {
        "source": required.source.name,
        "requirements": [rule.name for rule in required.rules],
        "state": required.state,
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
