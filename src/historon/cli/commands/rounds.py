"""`historon rounds`."""

from collections.abc import Mapping
from datetime import tzinfo
from typing import TYPE_CHECKING

import click

from historon.cli.app import App, estate_option, example, json_option, pass_app
from historon.cli.output import STYLES, instant, print_json, print_table, printable, table
from historon.errors import UsageError
from historon.estate import describe
from historon.store import Outcome, Round, Visit

if TYPE_CHECKING:
    from rich.text import Text

__all__ = ["command"]


@click.command("rounds", epilog=example("historon rounds", "historon rounds 41", "historon rounds 41 --steps"))
@click.argument("number", required=False, type=click.IntRange(1))
@click.option("--steps", is_flag=True, help="With a NUMBER: how long each step took.")
@click.option("--last", default=20, show_default=True, type=click.IntRange(1), help="How many rounds to list.")
@estate_option
@json_option
@pass_app
def command(app: App, number: int | None, *, steps: bool, last: int, estate_file: str | None, as_json: bool) -> None:
    """What happened, round by round.

    Lists the last rounds, newest first; with a NUMBER, every source of that round, with the step that took longest, or
    with --steps how long each of them took.
    """
    estate = app.estate(estate_file)
    with app.store(estate) as store:
        if number is None:
            rounds = store.rounds(last)
            print_json([_round_row(one) for one in rounds]) if as_json else _print_rounds(rounds, estate.zone)
            return
        visits = store.visits(number)
    if not visits:
        raise UsageError(f"there is no round {number}", hint="historon rounds")
    print_json([_visit_row(visit) for visit in visits]) if as_json else _print_visits(visits, steps=steps)


def _print_rounds(rounds: list[Round], zone: tzinfo) -> None:
    made = table("round", f"began ({zone})", "took", *Outcome, right=("round", *Outcome))
    for one in rounds:
        took = describe(one.ended - one.began) if one.ended else "cut short"
        made.add_row(str(one.number), instant(one.began, zone), took, *_tally(one.outcomes))
    print_table(made) if rounds else click.echo("no round yet: historon collect")


def _tally(outcomes: Mapping[Outcome, int]) -> "list[Text]":
    from rich.text import Text

    return [Text(str(outcomes[one]), STYLES[one]) if outcomes.get(one) else Text("·", "dim") for one in Outcome]


def _print_visits(visits: list[Visit], *, steps: bool) -> None:
    from rich.text import Text

    step = "step" if steps else "longest step"
    made = table("source", "outcome", "version", "took", step, "note", wrap=(step, "note"))
    for visit in visits:
        version = f"@{visit.number}" if visit.number is not None else ""
        outcome = Text(visit.outcome, STYLES[visit.outcome])
        longest = max(visit.steps, key=lambda step: step[1], default=None)
        where = f"{describe(longest[1])} in {longest[0].partition(' (')[0]}" if longest and not steps else ""
        note = printable(visit.note or "")
        made.add_row(visit.source, outcome, version, describe(visit.took), Text(printable(where), "dim"), note)
        for place, took in visit.steps if steps else ():
            made.add_row("", "", "", describe(took), Text(printable(place), "dim"), "")
    print_table(made)


def _round_row(one: Round) -> dict[str, object]:
    return {
        "round": one.number,
        "began": one.began,
        "ended": one.ended,
        "trigger": one.trigger,
        "outcomes": one.outcomes,
    }


def _visit_row(visit: Visit) -> dict[str, object]:
    return {
        "source": visit.source, "outcome": visit.outcome, "version": visit.number, "at": visit.at,
        "took_s": visit.took, "note": visit.note,
        "steps": [{"step": step, "took_s": took} for step, took in visit.steps],
    }  # fmt: skip
