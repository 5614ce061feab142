"""`historon prune`."""

from collections import Counter
from collections.abc import Callable, Sequence
from itertools import groupby

import click

from historon.cli.app import App, estate_option, example, json_option, pass_app, where_option
from historon.cli.output import count, instant, print_json, print_table, printable, size_text, table
from historon.errors import OutsideError, UsageError
from historon.estate import Estate
from historon.retention import Verdict

__all__ = ["command"]


@click.command(
    "prune",
    epilog=example(
        "historon prune",
        "historon prune edge-1 --each",
        "historon prune --with short --as-of 2027-01-01",
        "historon prune --yes",
    ),
)
@click.argument("names", nargs=-1, metavar="[SOURCE]...")
@where_option
@click.option("--each", is_flag=True, help="Show every version with the rule that keeps it.")
@click.option("--calendar", is_flag=True, help="Show what stays and goes as calendars, source by source.")
@click.option(
    "--with", "retention", metavar="RETENTION", help="Only show what this one would remove, instead of their own."
)
@click.option(
    "--as-of", "as_of", metavar="DATE", help="Only show what would be removed on this day, or at this instant."
)
@click.option("--yes", is_flag=True, help="Remove without asking.")
@estate_option
@json_option
@pass_app
def command(
    app: App,
    names: tuple[str, ...],
    where: tuple[str, ...],
    *,
    each: bool,
    calendar: bool,
    retention: str | None,
    as_of: str | None,
    yes: bool,
    estate_file: str | None,
    as_json: bool,
) -> None:
    """What retention would remove; removes it when confirmed.

    The plan comes first: which versions would be removed, and by which rule the others stay. A source's last good
    version and held ones always stay, and sources without a retention keep everything. When this machine's clock may
    be wrong, --yes removes nothing. With --with or --as-of nothing is removed either: it is what would be.
    """
    supposed = retention is not None or as_of is not None
    if supposed and yes:
        raise UsageError("with --with or --as-of nothing is removed", hint="leave out --yes")
    with app.opened(estate_file, spend_reserve=not supposed) as opened:
        moment = None if as_of is None else opened.moment(as_of)
        plans = opened.plan_prune(*names, where=where, retention=retention, as_of=moment)
        verdicts = [verdict for one in plans.values() for verdict in one]
        going = [verdict for verdict in verdicts if not verdict.stays]
        doubt = opened.clock_doubt() if going and not supposed else ""
        if not as_json:
            click.echo(_headline(plans))
            print_plans = _printer(calendar=calendar, each=each)
            print_plans(opened.estate, plans)
        if doubt:
            _heed(doubt, yes=yes)
        if going and not as_json and not yes and not supposed and app.interactive:
            yes = click.confirm(f"Remove {count(len(going), 'version')}?")
        done = opened.prune(plans) if going and yes else None
    if as_json:
        removed = done.versions if done else 0
        print_json("prune", _headline(plans), [_row(verdict) for verdict in verdicts], removed=removed)
    elif done:
        less = f", {size_text(done.size_before - done.size)} less" if done.size < done.size_before else ""
        click.echo(f"removed {count(done.versions, 'version')}; the store takes {size_text(done.size)} now{less}")
    elif supposed:
        click.echo("nothing was removed: this is only what would be")
    elif going and not app.interactive:
        click.echo("nothing was removed: this is only the plan (--yes carries it out)")


def _heed(doubt: str, *, yes: bool) -> None:
    """By a clock that may be wrong nothing is removed without a person who has been told so."""
    advice = "see whether `date` is right; if it is, run this without --yes at a terminal, and confirm"
    if yes:
        raise OutsideError(f"{doubt}: is it wrong? Nothing was removed", hint=advice)
    click.echo(f"historon: warning: {doubt}: is it wrong?\n  try: {advice}", err=True)


def _printer(*, calendar: bool, each: bool) -> Callable[[Estate, dict[str, list[Verdict]]], None]:
    if calendar:
        return _print_calendars
    return _print_each if each else _print_plan


def _headline(plans: dict[str, list[Verdict]]) -> str:
    if not plans:
        return "none of these sources has a retention: they keep every version"
    losing = _losing(plans)
    going = sum(not verdict.stays for verdicts in losing for verdict in verdicts)
    if not going:
        return f"nothing would be removed: every version of {count(len(plans), 'source')} stays"
    return f"{count(going, 'version')} of {count(len(losing), 'source')} would be removed"


def _losing(plans: dict[str, list[Verdict]]) -> list[list[Verdict]]:
    """The verdicts on those sources that lose a version."""
    return [verdicts for verdicts in plans.values() if any(not verdict.stays for verdict in verdicts)]


def _print_plan(_estate: Estate, plans: dict[str, list[Verdict]]) -> None:
    made = table("source", "removed", "which", "stay", right=("removed", "stay"), wrap=("which",))
    for name, verdicts in plans.items():
        going = [verdict.version.number for verdict in verdicts if not verdict.stays]
        if going:
            made.add_row(name, str(len(going)), _ranges(going), str(len(verdicts) - len(going)))
    if not made.rows:
        return
    print_table(made)
    losing = _losing(plans)
    rules = Counter(verdict.rule for verdicts in losing for verdict in verdicts if verdict.rule)
    click.echo("\nthe others of these sources stay, each by one of:")
    for rule, number in rules.most_common():
        click.echo(f"{number:6}  {printable(rule)}")
    by = [one.retention for verdicts in losing for one in verdicts if not one.stays]
    for budget, number in Counter(one.partition(", ")[2] for one in by if ", " in one).items():
        click.echo(f"{number:6}  would be removed for {printable(budget)}")


def _print_calendars(estate: Estate, plans: dict[str, list[Verdict]]) -> None:
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
        click.echo("\n# all of a day stay   + some of them   x all of them would be removed   . no version")


def _day(stay: Sequence[bool]) -> str:
    if not stay:
        return "."
    if all(stay):
        return "#"
    return "+" if any(stay) else "x"


def _print_each(estate: Estate, plans: dict[str, list[Verdict]]) -> None:
    verdicts = [verdict for one in plans.values() for verdict in one]
    made = table("version", f"version from ({estate.zone})", "verdict", wrap=("verdict",))
    for verdict in verdicts:
        version = verdict.version
        words = f"stays: {printable(verdict.rule)}" if verdict.rule is not None else "would be removed"
        style = "" if verdict.stays else "red"
        made.add_row(f"{version.source}@{version.number}", instant(version.at, estate.zone), words, style=style)
    if made.rows:
        print_table(made)


def _ranges(numbers: Sequence[int]) -> str:
    """`@1-@12, @14`: numbers in a row told once."""
    spans = []
    for _, run in groupby(enumerate(numbers), key=lambda pair: pair[1] - pair[0]):
        row = [number for _, number in run]
        spans.append(f"@{row[0]}" if len(row) == 1 else f"@{row[0]}-@{row[-1]}")
    return ", ".join(spans[:6]) + (f" and {len(spans) - 6} more" if len(spans) > 6 else "")


def _row(verdict: Verdict) -> dict[str, object]:
    version = verdict.version
    return {
        "source": version.source,
        "version": version.number,
        "at": version.at,
        "stays": verdict.stays,
        "rule": verdict.rule,
    }
