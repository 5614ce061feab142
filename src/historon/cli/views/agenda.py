"""`historon agenda`: what it shows."""

from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta

import click

from historon.base.quantities import size_text
from historon.cli.output import console, count, instant, print_table, printable, table
from historon.cli.styled import Text
from historon.estate import Estate, Freeze, describe, in_words, next_instants, words_of
from historon.timetable import Due, Load

__all__ = [
    "Simulation",
    "freezes_ahead",
    "headline",
    "print_dues",
    "print_end",
    "print_hours",
    "print_simulation",
    "timetable_row",
]

_BAR = 40
_NEXT = 3  # instants of a timetable that are named

_FROZEN = 6  # sources that are named


def headline(estate: Estate, dues: Sequence[Due], span: str) -> str:
    """What is due, in one line."""
    if not estate.timetables:
        return "there is no timetable: add one to [timetables] in the estate file, and name it in sources"
    if not dues:
        return f"nothing is due in {in_words(span)}"
    return (
        f"in {in_words(span)}: {count(len(dues), 'collection')} of {count(len({due.source for due in dues}), 'source')}"
    )


def print_dues(estate: Estate, dues: Sequence[Due], now: datetime) -> None:
    """Each collection that is due."""
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


def print_hours(estate: Estate, loads: Sequence[Load]) -> None:
    """How much of each hour is taken up."""
    most = max((load.sources for load in loads), default=1) or 1
    screen = console()
    for load in loads:
        bar = "█" * round(_BAR * load.sources / most) or ("▏" if load.sources else "")
        line = Text(f"{instant(load.begin, estate.zone)}  ", style="dim").append(f"{bar:<{_BAR}}", _style(load))
        screen.print(
            line.append(f"  {count(load.sources, 'source')}, {load.share:.1%} of the hour" if load.sources else "")
        )


@dataclass(frozen=True)
class Simulation:
    """What a span will bring: the time that collecting takes, added up and as rounds take it, and how the store grows.

    None stands for what the record of rounds cannot tell yet.
    """

    span_s: timedelta
    collections: int
    collecting_s: timedelta | None
    rounds_s: timedelta | None
    growth_bytes: int | None
    store_bytes: int
    history_s: timedelta | None


def print_simulation(estate: Estate, dues: Sequence[Due], simulation: Simulation) -> None:
    """What the span will bring, by timetable and in all."""
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
    if simulation.collecting_s is not None and simulation.rounds_s is not None:
        asked, waited = describe(_rounded(simulation.collecting_s)), describe(_rounded(simulation.rounds_s))
        at_once = estate.settings.at_once
        click.echo(f"time: about {asked} of collecting, {waited} with {at_once} at a time (by each source's last run)")
    if simulation.growth_bytes is not None and simulation.history_s is not None:
        now, history = size_text(simulation.store_bytes), describe(_rounded(simulation.history_s))
        growth = size_text(simulation.growth_bytes)
        click.echo(f"disk: about {growth} more, at the growth of the {history} so far (now {now})")
    else:
        click.echo("disk: unknown until there are rounds of two days")


def print_end(estate: Estate, dues: Sequence[Due], warnings: Sequence[str], now: datetime, span: str) -> None:
    """What comes next, and what is wrong with timetables."""
    screen = console()
    tally = Counter(due.timetable for due in dues)
    if estate.timetables:
        click.echo("")
    for name, timetable in estate.timetables.items():
        coming = ", ".join(instant(at, estate.zone) for at in next_instants(timetable, estate.zone, now, _NEXT))
        screen.print(Text(f"{name}: {words_of(timetable)}", style="bold"), soft_wrap=True)
        screen.print(Text(f"  {coming} …", style="dim"), soft_wrap=True)
        screen.print(Text(f"  {count(tally[name], 'collection')} in {in_words(span)}", style="dim"))
    for freeze in freezes_ahead(estate, now):
        why = f": {printable(freeze.why)}" if freeze.why else ""
        held = [one.name for one in estate.sources.values() if one.has_labels(freeze.where)]
        what = "nothing is" if len(held) == len(estate.sources) else f"{_held(held)} not"
        screen.print(Text(f"{what} collected from {freeze.from_} to {freeze.to}{why}", style="yellow"), soft_wrap=True)
    for warning in warnings:
        screen.print(Text(f"warning: {printable(warning)}", style="yellow"), soft_wrap=True)


def _held(names: Sequence[str]) -> str:
    """The sources that a freeze holds, in words."""
    if not names:
        return "no source is"
    more = f" and {len(names) - _FROZEN} more" if len(names) > _FROZEN else ""
    verb = "is" if len(names) == 1 else "are"
    return f"{', '.join(map(printable, names[:_FROZEN]))}{more} {verb}"


def freezes_ahead(estate: Estate, now: datetime) -> list[Freeze]:
    """The freezes that are not over."""
    return [freeze for freeze in estate.freezes if freeze.to >= now.astimezone(estate.zone).date()]


def timetable_row(estate: Estate, name: str, dues: Sequence[Due], now: datetime) -> dict[str, object]:
    """A timetable, for programs."""
    timetable = estate.timetables[name]
    return {
        "timetable": name,
        "collections": sum(due.timetable == name for due in dues),
        "next": list(next_instants(timetable, estate.zone, now, _NEXT)),
    }
