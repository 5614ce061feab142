"""`historon agenda`."""

from collections.abc import Sequence
from datetime import timedelta

import click

from historon.base.errors import UsageError
from historon.cli.app import App, estate_option, example, json_option, pass_app, where_option
from historon.cli.output import print_json
from historon.cli.views import agenda as view
from historon.estate import Duration, Estate, describe, select
from historon.store import Outcome, Store
from historon.timetable import Due, agenda, load_by_hour, missed_timetables, warnings_of

__all__ = ["command"]

_SHOWN = 40
_ROUNDS = 10  # from which the time of a source is estimated
_LONGEST = timedelta(days=400)
_ENOUGH = timedelta(days=1)  # between the first and the last round, to say how the store grows


@click.command(
    "agenda", epilog=example("historon agenda", "historon agenda --for 7d", "historon agenda edge-1 --simulate 30d")
)
@click.argument("names", nargs=-1, metavar="[SOURCE]...")
@where_option
@click.option("--for", "span", default="24h", show_default=True, metavar="SPAN", help="How far to look ahead.")
@click.option("--hours", is_flag=True, help="Show a bar for the load of each hour.")
@click.option(
    "--simulate",
    metavar="SPAN",
    help="Estimate collections, duration and disk growth for SPAN. Nothing is collected.",
)
@estate_option
@json_option
@pass_app
def command(
    app: App,
    names: tuple[str, ...],
    where: tuple[str, ...],
    *,
    span: str,
    hours: bool,
    simulate: str | None,
    estate_file: str | None,
    as_json: bool,
) -> None:
    """List what is due next.

    Timetables are in the estate's time zone. Warnings name hours that are too full, and timetables that no service
    keeps. They also name sources that are never due, take longer than their interval, or are due too seldom for their
    max_age. Nothing is collected.
    """
    estate = app.estate(estate_file)
    sources = select(estate, names, where)
    now = app.clock()
    ahead = _span(simulate or span)
    dues = list(agenda(estate, sources, now, now + ahead))
    with app.store(estate) as store:
        took = _took(store)
        loads = load_by_hour(estate, dues, took, now, now + ahead)
        warnings = [str(one) for one in missed_timetables(estate, store, now)]
        warnings += warnings_of(estate, sources, dues, loads, took)
        simulation = _simulated(estate, store, dues, took, ahead) if simulate else None
    headline = view.headline(estate, dues, simulate or span)
    if as_json:
        print_json(
            "agenda",
            headline,
            [{"at": due.at, "source": due.source, "timetable": due.timetable} for due in dues],
            timetables=[view.timetable_row(estate, name, dues, now) for name in estate.timetables],
            hours=[{"begin": one.begin, "sources": one.sources, "share": round(one.share, 4)} for one in loads],
            freezes=[
                {
                    "from": str(one.from_),
                    "to": str(one.to),
                    "why": one.why,
                    "sources": [each.name for each in estate.sources.values() if each.has_labels(one.where)],
                }
                for one in view.freezes_ahead(estate, now)
            ],
            simulation=simulation and vars(simulation),
            warnings=warnings,
        )
        return
    click.echo(headline)
    if simulation:
        view.print_simulation(estate, dues, simulation)
    elif hours or len(dues) > _SHOWN:
        view.print_hours(estate, [load for load in loads if load.sources or hours])
    else:
        view.print_dues(estate, dues, now)
    view.print_end(estate, dues, warnings, now, simulate or span)


def _span(written: str) -> timedelta:
    """How far somebody who names no end looks ahead."""
    try:
        span = Duration.parse(written)
    except ValueError as exc:
        raise UsageError(f'"{written}": {exc}', hint="write a span such as 24h, 7d or 30d") from exc
    if not timedelta() < span <= _LONGEST:
        raise UsageError(f'"{written}" is too long', hint=f"the longest span is {describe(_LONGEST)}")
    return span


def _took(store: Store) -> dict[str, timedelta]:
    """How long each source took the last time that it was asked."""
    took: dict[str, timedelta] = {}
    for one in store.rounds(_ROUNDS):
        for visit in store.visits(one.number):
            if visit.outcome is not Outcome.SKIPPED:
                took.setdefault(visit.source, visit.took)
    return took


def _simulated(
    estate: Estate, store: Store, dues: Sequence[Due], took: dict[str, timedelta], span: timedelta
) -> view.Simulation:
    known = [took[due.source] for due in dues if due.source in took]
    collecting = sum(known, timedelta()) / len(known) * len(dues) if known else None
    rounds = store.rounds(10**6)
    history = rounds[0].began - rounds[-1].began if rounds else timedelta()
    size = store.size()
    growth = round(size / (history / span)) if history >= _ENOUGH else None
    return view.Simulation(
        span,
        len(dues),
        collecting,
        collecting and collecting / estate.settings.at_once,
        growth,
        size,
        history if history >= _ENOUGH else None,
    )
