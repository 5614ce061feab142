"""`historon status`."""

from collections import Counter
from collections.abc import Sequence
from typing import TYPE_CHECKING

import click

from historon.cli.app import App, estate_option, example, json_option, pass_app, where_option
from historon.cli.output import STYLES, console, count, instant, print_json, print_table, printable, table
from historon.errors import ExitCode
from historon.estate import Estate, describe, select
from historon.timetable import SourceStatus, Standing, standings

if TYPE_CHECKING:
    from rich.text import Text

__all__ = ["command"]

_SHOWN = 40


@click.command(
    "status", epilog=example("historon status", "historon status --where site=northmole", "historon status --json")
)
@click.argument("names", nargs=-1, metavar="[SOURCE]...")
@where_option
@click.option("--all", "everything", is_flag=True, help="Every source, however many there are.")
@estate_option
@json_option
@pass_app
def command(
    app: App, names: tuple[str, ...], where: tuple[str, ...], *, everything: bool, estate_file: str | None,
    as_json: bool,
) -> int:  # fmt: skip
    """Is every promise kept? The exit code says it too.

    Shows each source's last good version and its age against its promise, those in trouble first. The age counts from
    when the version was made or last found unchanged. The exit code is 1 when a promise is broken or a promised
    source was never collected, 0 otherwise.
    """
    estate = app.estate(estate_file)
    with app.store(estate) as store:
        board = standings(estate, select(estate, names, where), store, app.clock())
    if as_json:
        print_json([_row(one) for one in board])
    elif not board:
        click.echo(f"no source yet: describe some in {printable(str(estate.file))}, or widen --where")
    else:
        _print_board(estate, board, everything=everything)
    return ExitCode.FOUND if any(one.standing.trouble for one in board) else ExitCode.WELL


def _print_board(estate: Estate, board: Sequence[SourceStatus], *, everything: bool) -> None:
    urgent = [one for one in board if one.ailing or one.standing in (Standing.NEVER, Standing.BROKEN, Standing.CLOSE)]
    shown = board if everything or len(board) <= _SHOWN else urgent[:_SHOWN]
    if shown:
        made = table("promise", "source", "good", "collected", "age", "last try")
        for one in shown:
            made.add_row(*_cells(estate, one))
        print_table(made)
        click.echo()
    if len(shown) < len(board):
        click.echo(f"not shown: {count(len(board) - len(shown), 'source')} (--all)")
    tally = Counter(one.standing for one in board)
    ailing = sum(one.ailing for one in board)
    words = [f"{tally[standing]:,} {standing}" for standing in Standing if tally[standing]]
    words += [f"last try went wrong at {ailing:,}"] if ailing else []
    trouble = sum(one.standing.trouble for one in board)
    verdict = f"{count(trouble, 'promise')} not kept" if trouble else "every promise is kept"
    screen = console()
    from rich.text import Text

    screen.print(Text.assemble((verdict, "bold red" if trouble else "bold green"), f": {count(len(board), 'source')}"
                               f" ({', '.join(words)})"))  # fmt: skip


def _cells(estate: Estate, one: SourceStatus) -> "list[Text | str]":
    from rich.text import Text

    state, outcome = one.state, one.state.outcome or "-"
    return [
        Text(one.standing, STYLES[one.standing]),
        printable(one.source.name),
        f"@{state.good}" if state.good is not None else "-",
        instant(state.good_at, estate.zone),
        _age(one),
        Text(outcome, STYLES.get(outcome, "")),
    ]


def _age(one: SourceStatus) -> str:
    """How old, of how old it may get."""
    age = describe(one.age) if one.age is not None else "-"
    return f"{age} of {describe(one.source.promise)}" if one.source.promise else age


def _row(one: SourceStatus) -> dict[str, object]:
    return {
        "source": one.source.name,
        "standing": one.standing,
        "promise_s": one.source.promise,
        "age_s": one.age,
        "version": one.state.good,
        "collected": one.state.good_at,
        "confirmed": one.state.confirmed_at,
        "last_outcome": one.state.outcome,
        "last_tried": one.state.outcome_at,
        "note": one.state.note,
        "labels": one.source.labels,
    }
