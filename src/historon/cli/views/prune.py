"""`historon prune`: what it shows."""

from collections import Counter
from collections.abc import Callable, Mapping, Sequence
from datetime import tzinfo
from itertools import groupby

import click

from historon.api.results import Pruning
from historon.cli.output import count, instant, print_json, print_table, printable, table
from historon.estate import Estate
from historon.retention import Verdict

__all__ = ["headline", "print_history", "printer_of", "row"]

_NAMED = 6  # sources of a pruning


def printer_of(*, calendar: bool, each: bool) -> Callable[[Estate, Mapping[str, Sequence[Verdict]]], None]:
    """The form that was asked for."""
    if calendar:
        return _print_calendars
    return _print_each if each else _print_plan


def headline(plans: Mapping[str, Sequence[Verdict]]) -> str:
    """What would be removed, in one line."""
    if not plans:
        return "none of these sources has a retention: all versions stay"
    losing = _losing(plans)
    going = sum(not verdict.stays for verdicts in losing for verdict in verdicts)
    if not going:
        return f"nothing would be removed: every version of {count(len(plans), 'source')} stays"
    return f"{count(going, 'version')} of {count(len(losing), 'source')} would be removed"


def _losing(plans: Mapping[str, Sequence[Verdict]]) -> list[Sequence[Verdict]]:
    """The verdicts on those sources that lose a version."""
    return [verdicts for verdicts in plans.values() if any(not verdict.stays for verdict in verdicts)]


def _print_plan(_estate: Estate, plans: Mapping[str, Sequence[Verdict]]) -> None:
    made = table("source", "to remove", "versions", "to keep", right=("to remove", "to keep"), wrap=("versions",))
    for name, verdicts in plans.items():
        going = [verdict.version.number for verdict in verdicts if not verdict.stays]
        if going:
            made.add_row(name, str(len(going)), _ranges(going), str(len(verdicts) - len(going)))
    if not made.rows:
        return
    print_table(made)
    losing = _losing(plans)
    rules = Counter(verdict.rule for verdicts in losing for verdict in verdicts if verdict.rule)
    click.echo("\nthe other versions of these sources stay, each by one of:")
    for rule, number in rules.most_common():
        click.echo(f"{number:6}  {printable(rule)}")
    by = [one.retention for verdicts in losing for one in verdicts if not one.stays]
    for budget, number in Counter(one.partition(", ")[2] for one in by if ", " in one).items():
        click.echo(f"{number:6}  removed for {printable(budget)}")


def _print_calendars(estate: Estate, plans: Mapping[str, Sequence[Verdict]]) -> None:
    """A line a month, a column a day: a day shows what became of its versions."""
    for name, verdicts in plans.items():
        months: dict[tuple[int, int], dict[int, list[bool]]] = {}
        for verdict in verdicts:
            at = verdict.version.at.astimezone(estate.zone)
            months.setdefault((at.year, at.month), {}).setdefault(at.day, []).append(verdict.stays)
        staying = sum(verdict.stays for verdict in verdicts)
        click.echo(f"\n{name}: {staying} stay, {len(verdicts) - staying} would be removed")
        click.echo("         1   5    10   15   20   25   30")
        for year, month in sorted(months):
            days = months[year, month]
            signs = "".join(_day(days.get(day, [])) for day in range(1, 32))
            click.echo(f"{year}-{month:02}  {signs.rstrip()}")
    if plans:
        click.echo("\n# all of a day stay   + some of them stay   x all of them would be removed   . no version")


def _day(stay: Sequence[bool]) -> str:
    if not stay:
        return "."
    if all(stay):
        return "#"
    return "+" if any(stay) else "x"


def _print_each(estate: Estate, plans: Mapping[str, Sequence[Verdict]]) -> None:
    verdicts = [verdict for one in plans.values() for verdict in one]
    made = table("version", f"made ({estate.zone})", "verdict", wrap=("verdict",))
    for verdict in verdicts:
        version = verdict.version
        words = f"stays: {printable(verdict.rule)}" if verdict.rule is not None else "would be removed"
        style = "" if verdict.stays else "red"
        made.add_row(f"{version.source}@{version.number}", instant(version.at, estate.zone), words, style=style)
    if made.rows:
        print_table(made)


def _ranges(numbers: Sequence[int]) -> str:
    """`@1-@12, @14`: numbers in a row reported once."""
    spans = []
    for _, run in groupby(enumerate(numbers), key=lambda pair: pair[1] - pair[0]):
        row = [number for _, number in run]
        spans.append(f"@{row[0]}" if len(row) == 1 else f"@{row[0]}-@{row[-1]}")
    return ", ".join(spans[:6]) + (f" and {len(spans) - 6} more" if len(spans) > 6 else "")


def row(verdict: Verdict) -> dict[str, object]:
    """The verdict on a version, for programs."""
    version = verdict.version
    return {
        "source": version.source,
        "version": version.number,
        "at": version.at,
        "stays": verdict.stays,
        "rule": verdict.rule,
    }


def print_history(found: Sequence[Pruning], zone: tzinfo, *, as_json: bool) -> None:
    """What was removed, each time in one line."""
    versions = sum(one.versions for one in found)
    headline = f"{count(versions, 'version')} removed in {count(len(found), 'pruning')}"
    if as_json:
        rows: list[dict[str, object]] = [
            {
                "at": one.at,
                "after_round": one.round,
                "rules": list(one.rules),
                "sources": [{"source": name, "versions": number} for name, number in one.by_source.items()],
            }
            for one in found
        ]
        print_json("prune-history", headline, rows)
        return
    click.echo(headline)
    made = table(f"when ({zone})", "by", "versions", "rule", "sources", wrap=("sources",))
    for one in found:
        by = f"the service, after round {one.round}" if one.round is not None else "hand"
        names = [f"{printable(name)} ({number})" for name, number in one.by_source.items()]
        more = f" and {len(names) - _NAMED} more" if len(names) > _NAMED else ""
        told = instant(one.at, zone) if one.at else "unknown"
        made.add_row(told, by, str(one.versions), "; ".join(one.rules) or "-", ", ".join(names[:_NAMED]) + more)
    if found:
        print_table(made)
