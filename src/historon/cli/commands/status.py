"""`historon status`."""

import time
from collections import Counter
from collections.abc import Sequence
from typing import TYPE_CHECKING

import click

from historon.cli.app import App, estate_option, example, json_option, pass_app, where_option
from historon.cli.output import STYLES, console, count, instant, print_json, print_table, printable, table
from historon.errors import ExitCode, UsageError
from historon.estate import Estate, describe, select
from historon.timetable import SourceStatus, Standing, standings

if TYPE_CHECKING:
    from rich.text import Text

__all__ = ["command"]

_SHOWN = 40
_NARROW = 100  # columns below which the instant is left out


@click.command(
    "status",
    epilog=example(
        "historon status",
        "historon status --where site=northmole",
        "historon status --by site",
        "historon status --watch",
    ),
)
@click.argument("names", nargs=-1, metavar="[SOURCE]...")
@where_option
@click.option("--all", "everything", is_flag=True, help="Every source, however many there are.")
@click.option("--by", metavar="LABEL", help="One line for each value of a label, such as site.")
@click.option(
    "--watch",
    is_flag=False,
    flag_value=10,
    type=click.IntRange(1),
    metavar="SECONDS",
    help="Show it again and again, every ten seconds or so often.",
)
@estate_option
@json_option
@pass_app
def command(
    app: App, names: tuple[str, ...], where: tuple[str, ...], *, everything: bool, by: str | None, watch: int | None,
    estate_file: str | None, as_json: bool,
) -> int:  # fmt: skip
    """Is every promise kept? The exit code says it too.

    Shows each source's last good version and its age against its promise, those in trouble first. The age counts from
    when the version was made or last found unchanged. The exit code is 1 when a promise is broken or a promised
    source was never collected, 0 otherwise. Sources that are skipped are paused, whatever was promised.
    """
    while True:
        estate = app.estate(estate_file)
        sources = select(estate, names, where)
        if by is not None and not any(by in source.labels for source in sources):
            raise UsageError(f'no source has the label "{by}"', hint="historon sources shows the labels")
        with app.store(estate) as store:
            board = standings(estate, sources, store, app.clock())
        if as_json:
            print_json([_row(one) for one in board])
        elif not board:
            click.echo(f"no source yet: describe some in {printable(str(estate.file))}, or widen --where")
        else:
            _show(estate, board, by, everything=everything, clear=watch is not None)
        if watch is None or as_json:
            return ExitCode.FOUND if any(one.standing.trouble for one in board) else ExitCode.WELL
        time.sleep(watch)


def _show(estate: Estate, board: Sequence[SourceStatus], by: str | None, *, everything: bool, clear: bool) -> None:
    if clear:
        click.clear()
    _print_verdict(board)
    if by is not None:
        _print_groups(board, by)
    else:
        _print_board(estate, board, everything=everything)


def _print_verdict(board: Sequence[SourceStatus]) -> None:
    from rich.text import Text

    tally = Counter(one.standing for one in board)
    ailing = sum(one.ailing for one in board)
    words = [f"{tally[standing]:,} {standing}" for standing in Standing if tally[standing]]
    words += [f"last try went wrong at {ailing:,}"] if ailing else []
    trouble = sum(one.standing.trouble for one in board)
    verdict = f"{count(trouble, 'promise')} not kept" if trouble else "every promise is kept"
    told = f": {count(len(board), 'source')} ({', '.join(words)})\n"
    console().print(Text.assemble((verdict, "bold red" if trouble else "bold green"), told))


def _print_board(estate: Estate, board: Sequence[SourceStatus], *, everything: bool) -> None:
    urgent = [one for one in board if one.ailing or one.standing in (Standing.NEVER, Standing.BROKEN, Standing.CLOSE)]
    shown = board if everything or len(board) <= _SHOWN else urgent[:_SHOWN]
    narrow = console().width < _NARROW
    if shown:
        columns = ["promise", "source", "good", "collected", "age", "last try"]
        made = table(*(column for column in columns if not (narrow and column == "collected")))
        for one in shown:
            cells = _cells(estate, one)
            made.add_row(*(cells[:3] + cells[4:] if narrow else cells))
        print_table(made)
    if len(shown) < len(board):
        click.echo(f"not shown: {count(len(board) - len(shown), 'source')} (--all)")


def _print_groups(board: Sequence[SourceStatus], by: str) -> None:
    """One line for each value of a label, those with the most trouble first."""
    from rich.text import Text

    groups: dict[str, Counter[Standing]] = {}
    for one in board:
        groups.setdefault(one.source.labels.get(by, "-"), Counter())[one.standing] += 1
    used = [standing for standing in Standing if any(tally[standing] for tally in groups.values())]
    made = table(by, "sources", *used, right=("sources", *used))
    for value, tally in sorted(groups.items(), key=lambda group: (-_troubles(group[1]), group[0])):
        numbers = [Text(str(tally[one]), STYLES[one]) if tally[one] else Text("·", "dim") for one in used]
        made.add_row(printable(value), str(tally.total()), *numbers)
    print_table(made)


def _troubles(tally: Counter[Standing]) -> int:
    return sum(tally[standing] for standing in Standing if standing.trouble)


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
