"""`historon rounds`."""

import click

from historon.cli.app import App, estate_option, example, json_option, pass_app, where_option
from historon.cli.output import print_json
from historon.cli.views import rounds as view

__all__ = ["command"]


@click.command(
    "rounds", epilog=example("historon rounds", "historon rounds 41 --steps", "historon rounds --where site=northmole")
)
@click.argument("number", required=False, type=click.IntRange(1))
@click.option("--steps", is_flag=True, help="With NUMBER: show how long each step took.")
@click.option(
    "--last", metavar="N", default=20, show_default=True, type=click.IntRange(1), help="Number of rounds to list."
)
@where_option
@estate_option
@json_option
@pass_app
def command(
    app: App,
    number: int | None,
    *,
    steps: bool,
    last: int,
    where: tuple[str, ...],
    estate_file: str | None,
    as_json: bool,
) -> None:
    """List rounds, or show one with its outcomes.

    Lists the last rounds, newest first. With NUMBER: every source of that round with its longest step, or with --steps
    all its steps. With --where: only the outcomes of these sources.
    """
    with app.opened(estate_file) as opened:
        if number is None:
            rounds = opened.rounds(last, where=where)
            endings = {one.number: one.ending for one in rounds if one.ended is None}
            headline = view.rounds_headline(rounds, endings)
            if as_json:
                print_json("rounds", headline, [view.round_row(one, endings) for one in rounds])
            else:
                view.print_rounds(rounds, endings, headline, opened.zone)
            return
        found = opened.round(number, where=where)
        visits, removed = found.visits(), found.removed()
    if as_json:
        rows = [view.visit_row(visit) for visit in visits]
        print_json(
            "round", view.visits_headline(number, visits), rows, removed=[view.removed_row(one) for one in removed]
        )
    else:
        view.print_visits(number, visits, steps=steps)
        view.print_removed(removed)
