"""`historon agenda`."""

from collections import Counter
from collections.abc import Sequence
from datetime import datetime, timedelta

import click

from historon.cli.app import App, estate_option, example, json_option, pass_app, where_option
from historon.cli.output import console, count, instant, print_json, print_table, printable, size_text, table
from historon.errors import UsageError
from historon.estate import Duration, Estate, Source, describe, next_instants, select, words_of
from historon.store import Outcome, Store
from historon.timetable import Due, Load, agenda, load_by_hour, warnings_of

__all__ = ["command"]

_SHOWN = 40
_ROUNDS = 10  # by which it is told how long sources take
_BAR = 40
_LONGEST = timedelta(days=400)


@click.command(
    "agenda", epilog=example("historon agenda", "historon agenda --for 7d", "historon agenda edge-1 --play 30d")
)
@click.argument("names", nargs=-1, metavar="[SOURCE]...")
@where_option
@click.option("--for", "span", default="24h", show_default=True, metavar="SPAN", help="How far ahead.")
@click.option("--hours", is_flag=True, help="As a picture of the load of each hour.")
@click.option(
    "--play", metavar="SPAN", help="Run the clock forward on paper: how many rounds, how long, how much disk."
)
@estate_option
@json_option
@pass_app
def command(
    app: App, names: tuple[str, ...], where: tuple[str, ...], *, span: str, hours: bool, play: str | None,
    estate_file: str | None, as_json: bool,
) -> None:  # fmt: skip
    """What is due next.

    Sources are due by their timetables, in the estate's time zone. It warns of hours that are too full, of sources that
    are never due, take longer than their interval, or are due too seldom for their promise. Nothing is collected.
    """
    estate = app.estate(estate_file)
    sources = select(estate, names, where)
    now = app.clock()
    until = now + _span(play or span)
    dues = list(agenda(estate, sources, now, until))
    with app.store(estate) as store:
        took = _took(store)
        loads = load_by_hour(estate, dues, took, now, until)
        warnings = list(warnings_of(estate, sources, dues, loads, took))
        if as_json:
            print_json({
                "due": [{"at": due.at, "source": due.source, "timetable": due.timetable} for due in dues],
                "warnings": warnings,
            })  # fmt: skip
            return
        if play:
            _print_play(estate, store, sources, dues, took, until - now)
        elif hours or len(dues) > _SHOWN:
            _print_hours(estate, [load for load in loads if load.sources or hours])
        else:
            _print_dues(estate, dues, now)
    _print_end(estate, dues, warnings, now, play or span)


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
    made = table(f"due ({estate.zone.key})", "in", "source", "timetable")
    for due in dues:
        made.add_row(_day(due.at, estate), describe(_rounded(due.at - now)), due.source, due.timetable)
    if dues:
        print_table(made)


def _day(at: datetime, estate: Estate) -> str:
    return f"{at.astimezone(estate.zone):%a} {instant(at, estate.zone)}"


def _rounded(span: timedelta) -> timedelta:
    return max(timedelta(minutes=1), timedelta(minutes=round(span / timedelta(minutes=1))))


def _print_hours(estate: Estate, loads: Sequence[Load]) -> None:
    from rich.text import Text

    most = max((load.sources for load in loads), default=1) or 1
    screen = console()
    for load in loads:
        style = "red" if load.share > 0.8 else "yellow" if load.share > 0.5 else "green"
        bar = "█" * round(_BAR * load.sources / most) or ("▏" if load.sources else "")
        line = Text(f"{_day(load.begin, estate)}  ", style="dim").append(f"{bar:<{_BAR}}", style)
        screen.print(
            line.append(f"  {count(load.sources, 'source')}, {load.share:.1%} of the hour" if load.sources else "")
        )


def _print_play(
    estate: Estate, store: Store, sources: Sequence[Source], dues: Sequence[Due], took: dict[str, timedelta],
    span: timedelta,
) -> None:  # fmt: skip
    made = table("timetable", "collections", "sources", "first", "last", right=("collections", "sources"))
    for name in estate.timetables:
        own = [due for due in dues if due.timetable == name]
        if own:
            first, last = _day(own[0].at, estate), _day(own[-1].at, estate)
            made.add_row(name, f"{len(own):,}", f"{len({due.source for due in own}):,}", first, last)
    print_table(made)
    known = [took[due.source] for due in dues if due.source in took]
    work = sum(known, timedelta())
    click.echo(f"\nin {describe(span)}: {count(len(dues), 'collection')} of {count(len(sources), 'source')}")
    if known:
        per = work / len(known) * len(dues)
        asked, waited = describe(_rounded(per)), describe(_rounded(per / estate.settings.at_once))
        click.echo(f"time: {asked} of asking, as long as the last times; {waited} at {estate.settings.at_once} at once")
    rounds = store.rounds(10**6)
    if rounds and (age := (rounds[0].began - rounds[-1].began)) >= timedelta(days=1):
        grown = store.size() / (age / timedelta(days=1)) * (span / timedelta(days=1))
        so_far = f"if it grows as in the {describe(_rounded(age))} so far (now {size_text(store.size())})"
        click.echo(f"disk: at most about {size_text(grown)} more, {so_far}")
    else:
        click.echo("disk: not known yet, as rounds of two days are needed to tell")


def _print_end(estate: Estate, dues: Sequence[Due], warnings: Sequence[str], now: datetime, span: str) -> None:
    from rich.text import Text

    screen = console()
    if not estate.timetables:
        click.echo("there is no timetable: write one in [timetables] of the estate file, and name it in sources")
        return
    click.echo("" if dues else f"nothing is due in {span}")
    tally = Counter(due.timetable for due in dues)
    for name, timetable in estate.timetables.items():
        coming = ", ".join(_day(at, estate) for at in next_instants(timetable, estate.zone, now, 3))
        screen.print(Text(f"{name}: {words_of(timetable)}", style="bold"))
        screen.print(Text(f"  {coming} …  ({count(tally[name], 'collection')} in {span})", style="dim"))
    for freeze in estate.freezes:
        if freeze.to >= now.astimezone(estate.zone).date():
            why = f": {printable(freeze.why)}" if freeze.why else ""
            screen.print(Text(f"nothing is collected from {freeze.from_} to {freeze.to}{why}", style="yellow"))
    for warning in warnings:
        screen.print(Text(f"warning: {printable(warning)}", style="yellow"), soft_wrap=True)
