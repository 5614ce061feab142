"""`historon agenda`."""

from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta

import click

from historon.cli.app import App, estate_option, example, json_option, pass_app, where_option
from historon.cli.output import console, count, instant, print_json, print_table, printable, size_text, table
from historon.errors import UsageError
from historon.estate import Duration, Estate, Freeze, describe, in_words, next_instants, select, words_of
from historon.store import Outcome, Store
from historon.timetable import Due, Load, agenda, load_by_hour, warnings_of

__all__ = ["command"]

_SHOWN = 40
_ROUNDS = 10  # by which it is told how long sources take
_BAR = 40
_LONGEST = timedelta(days=400)
_ENOUGH = timedelta(days=1)  # between the first and the last round, to say how the store grows
_NEXT = 3  # instants of a timetable that are named


@click.command(
    "agenda", epilog=example("historon agenda", "historon agenda --for 7d", "historon agenda edge-1 --simulate 30d")
)
@click.argument("names", nargs=-1, metavar="[SOURCE]...")
@where_option
@click.option("--for", "span", default="24h", show_default=True, metavar="SPAN", help="How far ahead.")
@click.option("--hours", is_flag=True, help="As a picture of the load of each hour.")
@click.option(
    "--simulate", metavar="SPAN", help="Reckon ahead without collecting: how many collections, how long, how much disk."
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
    """What is due next.

    Sources are due by their timetables, in the estate's time zone. It warns of hours that are too full, of sources that
    are never due, take longer than their interval, or are due too seldom for their max_age. Nothing is collected.
    """
    estate = app.estate(estate_file)
    sources = select(estate, names, where)
    now = app.clock()
    ahead = _span(simulate or span)
    dues = list(agenda(estate, sources, now, now + ahead))
    with app.store(estate) as store:
        took = _took(store)
        loads = load_by_hour(estate, dues, took, now, now + ahead)
        warnings = list(warnings_of(estate, sources, dues, loads, took))
        simulation = _simulated(estate, store, dues, took, ahead) if simulate else None
    headline = _headline(estate, dues, simulate or span)
    if as_json:
        print_json(
            "agenda",
            headline,
            [{"at": due.at, "source": due.source, "timetable": due.timetable} for due in dues],
            timetables=[_timetable_row(estate, name, dues, now) for name in estate.timetables],
            hours=[{"begin": one.begin, "sources": one.sources, "share": round(one.share, 4)} for one in loads],
            freezes=[{"from": str(one.from_), "to": str(one.to), "why": one.why} for one in _coming(estate, now)],
            simulation=simulation and vars(simulation),
            warnings=warnings,
        )
        return
    click.echo(headline)
    if simulation:
        _print_simulation(estate, dues, simulation)
    elif hours or len(dues) > _SHOWN:
        _print_hours(estate, [load for load in loads if load.sources or hours])
    else:
        _print_dues(estate, dues, now)
    _print_end(estate, dues, warnings, now, simulate or span)


def _headline(estate: Estate, dues: Sequence[Due], span: str) -> str:
    if not estate.timetables:
        return "there is no timetable: write one in [timetables] of the estate file, and name it in sources"
    if not dues:
        return f"nothing is due in {in_words(span)}"
    return (
        f"in {in_words(span)}: {count(len(dues), 'collection')} of {count(len({due.source for due in dues}), 'source')}"
    )


def _span(written: str) -> timedelta:
    try:
        span = Duration.parse(written)
    except ValueError as exc:
        raise UsageError(f'"{written}": {exc}', hint="write for example 24h, 7d or 30d") from exc
    if not timedelta() < span <= _LONGEST:
        raise UsageError(f'"{written}" cannot be looked over', hint=f"up to {describe(_LONGEST)}")
    return span


def _took(store: Store) -> dict[str, timedelta]:
    """How long each source took the last time that it was asked."""
    took: dict[str, timedelta] = {}
    for one in store.rounds(_ROUNDS):
        for visit in store.visits(one.number):
            if visit.outcome is not Outcome.SKIPPED:
                took.setdefault(visit.source, visit.took)
    return took


def _print_dues(estate: Estate, dues: Sequence[Due], now: datetime) -> None:
    made = table("day", f"due ({estate.zone})", "in", "source", "timetable")
    for due in dues:
        made.add_row(
            f"{due.at.astimezone(estate.zone):%a}",
            instant(due.at, estate.zone),
            describe(_rounded(due.at - now)),
            due.source,
            due.timetable,
        )
    if dues:
        print_table(made)


def _rounded(span: timedelta) -> timedelta:
    return max(timedelta(minutes=1), timedelta(minutes=round(span / timedelta(minutes=1))))


def _style(load: Load) -> str:
    if load.share > 0.8:
        return "red"
    return "yellow" if load.share > 0.5 else "green"


def _print_hours(estate: Estate, loads: Sequence[Load]) -> None:
    from rich.text import Text

    most = max((load.sources for load in loads), default=1) or 1
    screen = console()
    for load in loads:
        bar = "█" * round(_BAR * load.sources / most) or ("▏" if load.sources else "")
        line = Text(f"{instant(load.begin, estate.zone)}  ", style="dim").append(f"{bar:<{_BAR}}", _style(load))
        screen.print(
            line.append(f"  {count(load.sources, 'source')}, {load.share:.1%} of the hour" if load.sources else "")
        )


@dataclass(frozen=True)
class _Simulation:
    """What a span will bring: the time that asking takes, added up and as rounds take it, and how the store grows.

    None stands for what the record of rounds cannot tell yet.
    """

    span_s: timedelta
    collections: int
    asking_s: timedelta | None
    rounds_s: timedelta | None
    growth_bytes: int | None
    store_bytes: int
    history_s: timedelta | None


def _simulated(
    estate: Estate, store: Store, dues: Sequence[Due], took: dict[str, timedelta], span: timedelta
) -> _Simulation:
    known = [took[due.source] for due in dues if due.source in took]
    asking = sum(known, timedelta()) / len(known) * len(dues) if known else None
    rounds = store.rounds(10**6)
    history = rounds[0].began - rounds[-1].began if rounds else timedelta()
    size = store.size()
    growth = round(size / (history / span)) if history >= _ENOUGH else None
    return _Simulation(
        span,
        len(dues),
        asking,
        asking and asking / estate.settings.at_once,
        growth,
        size,
        history if history >= _ENOUGH else None,
    )


def _print_simulation(estate: Estate, dues: Sequence[Due], simulation: _Simulation) -> None:
    made = table(
        "timetable", "collections", "sources", f"first ({estate.zone})", "last", right=("collections", "sources")
    )
    for name in estate.timetables:
        own = [due for due in dues if due.timetable == name]
        if own:
            first, last = instant(own[0].at, estate.zone), instant(own[-1].at, estate.zone)
            made.add_row(name, f"{len(own):,}", f"{len({due.source for due in own}):,}", first, last)
    if made.rows:
        print_table(made)
    click.echo("")
    if simulation.asking_s is not None and simulation.rounds_s is not None:
        asked, waited = describe(_rounded(simulation.asking_s)), describe(_rounded(simulation.rounds_s))
        at_once = estate.settings.at_once
        click.echo(f"time: {asked} of asking, if it takes as long as the last times; {waited} at {at_once} at once")
    if simulation.growth_bytes is not None and simulation.history_s is not None:
        now, history = size_text(simulation.store_bytes), describe(_rounded(simulation.history_s))
        growth = size_text(simulation.growth_bytes)
        click.echo(f"disk: about {growth} more, if it grows as in the {history} so far (now {now})")
    else:
        click.echo("disk: cannot tell yet: it takes the rounds of two days")


def _print_end(estate: Estate, dues: Sequence[Due], warnings: Sequence[str], now: datetime, span: str) -> None:
    from rich.text import Text

    screen = console()
    tally = Counter(due.timetable for due in dues)
    if estate.timetables:
        click.echo("")
    for name, timetable in estate.timetables.items():
        coming = ", ".join(instant(at, estate.zone) for at in next_instants(timetable, estate.zone, now, _NEXT))
        screen.print(Text(f"{name}: {words_of(timetable)}", style="bold"), soft_wrap=True)
        screen.print(Text(f"  {coming} …", style="dim"), soft_wrap=True)
        screen.print(Text(f"  {count(tally[name], 'collection')} in {in_words(span)}", style="dim"))
    for freeze in _coming(estate, now):
        why = f": {printable(freeze.why)}" if freeze.why else ""
        screen.print(Text(f"nothing is collected from {freeze.from_} to {freeze.to}{why}", style="yellow"))
    for warning in warnings:
        screen.print(Text(f"warning: {printable(warning)}", style="yellow"), soft_wrap=True)


def _coming(estate: Estate, now: datetime) -> list[Freeze]:
    """The freezes that are not over."""
    return [freeze for freeze in estate.freezes if freeze.to >= now.astimezone(estate.zone).date()]


def _timetable_row(estate: Estate, name: str, dues: Sequence[Due], now: datetime) -> dict[str, object]:
    timetable = estate.timetables[name]
    return {
        "timetable": name,
        "collections": sum(due.timetable == name for due in dues),
        "next": list(next_instants(timetable, estate.zone, now, _NEXT)),
    }
