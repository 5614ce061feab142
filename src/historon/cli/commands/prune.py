"""`historon prune`."""

import click

from historon.base.errors import OutsideError, UsageError
from historon.base.quantities import size_text
from historon.cli.app import App, estate_option, example, json_option, pass_app, where_option
from historon.cli.output import count, print_json
from historon.cli.views import prune as view

__all__ = ["command"]


@click.command(
    "prune",
    epilog=example(
        "historon prune",
        "historon prune edge-1 --each",
        "historon prune --with short --at 2027-01-01",
        "historon prune --yes",
        "historon prune --history",
    ),
)
@click.argument("names", nargs=-1, metavar="[SOURCE]...")
@where_option
@click.option("--each", is_flag=True, help="List every version with the rule that keeps it.")
@click.option("--calendar", is_flag=True, help="Show a calendar for each source: versions to keep and to remove.")
@click.option(
    "--with",
    "retention",
    metavar="RETENTION",
    help="Preview another retention instead of the sources' own. Removes nothing.",
)
@click.option("--at", "as_of", metavar="WHEN", help="Preview the plan as of a day or an instant. Removes nothing.")
@click.option("--history", is_flag=True, help="List past removals, by the service and by hand. Removes nothing.")
@click.option("--yes", is_flag=True, help="Remove without asking, within prune_limit.")
@click.option(
    "--exactly",
    type=click.IntRange(1),
    metavar="N",
    help="With --yes: remove exactly N versions, even beyond prune_limit.",
)
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
    history: bool,
    yes: bool,
    exactly: int | None,
    estate_file: str | None,
    as_json: bool,
) -> None:
    """Show what retention would remove; remove it when confirmed.

    The plan comes first: the versions to remove, and the rule that keeps each of the others. A source's last good
    version and held versions always stay. Sources without a retention keep everything. --yes removes nothing when this
    machine's clock may be wrong. It removes no more than prune_limit, and no more than half of a source's versions,
    unless --exactly gives the number. --with and --at only preview.
    """
    if history:
        with app.opened(estate_file) as opened:
            view.print_history(opened.prunings(*names, where=where), opened.zone, as_json=as_json)
        return
    supposed = _is_supposed(retention, as_of, yes=yes)
    with app.opened(estate_file, spend_reserve=not supposed) as opened:
        moment = None if as_of is None else opened.moment(as_of)
        plan = opened.plan_prune(*names, where=where, retention=retention, as_of=moment)
        plans, going = plan.by_source, plan.removals
        if not as_json:
            click.echo(view.headline(plans))
            print_plans = view.printer_of(calendar=calendar, each=each)
            print_plans(opened.described, plans)
        if going and not supposed:
            _heed(plan.clock_doubt(), yes=yes)
            if yes:
                opened.to_write()  # first of all: another estate's store is not pruned, however few go
                _check_limit(plan.too_many(), len(going), exactly)
        if going and not as_json and not yes and not supposed and app.interactive:
            yes = click.confirm(f"Remove {count(len(going), 'version')}?")
        done = plan.prune() if going and yes else None
    if as_json:
        removed = done.versions if done else 0
        print_json("prune", view.headline(plans), [view.row(verdict) for verdict in plan.verdicts], removed=removed)
    elif done:
        less = f", {size_text(done.size_before - done.size)} less" if done.size < done.size_before else ""
        click.echo(f"{count(done.versions, 'version')} removed; the store takes {size_text(done.size)} now{less}")
    elif supposed:
        click.echo("nothing was removed: this is a preview")
    elif going and not app.interactive:
        click.echo("nothing was removed: this is the plan (--yes carries it out)")


def _is_supposed(retention: str | None, as_of: str | None, *, yes: bool) -> bool:
    """Whether it is only asked what would be."""
    supposed = retention is not None or as_of is not None
    if supposed and yes:
        raise UsageError("--with and --at only preview", hint="omit --yes")
    return supposed


def _check_limit(trouble: str, number: int, exactly: int | None) -> None:
    """More than may be removed at once is only removed by somebody who has seen how many that are."""
    if exactly is not None and exactly != number:
        message = f"{count(number, 'version')} would be removed, not {exactly:,}; nothing was removed"
        raise OutsideError(message, hint="look at the plan again: historon prune")
    if trouble and exactly is None:
        hint = f"check the plan; if it is right: historon prune --yes --exactly {number}"
        raise OutsideError(f"{trouble}; nothing was removed", hint=hint)


def _heed(doubt: str, *, yes: bool) -> None:
    """By a clock that may be wrong nothing is removed without a person who knows that."""
    if not doubt:
        return
    advice = "check `date`; if it is right, run this without --yes at a terminal, and confirm"
    if yes:
        raise OutsideError(f"{doubt}: is it wrong? Nothing was removed", hint=advice)
    click.echo(f"historon: warning: {doubt}: is it wrong?\n  try: {advice}", err=True)
