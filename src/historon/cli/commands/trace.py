"""`historon trace`."""

from collections.abc import Sequence
from datetime import tzinfo

import click

from historon.cli.app import (
    App,
    estate_option,
    example,
    json_option,
    pass_app,
    query_options,
    reveal_option,
)
from historon.cli.differences import change_data
from historon.cli.output import console, count, instant, print_json, printable
from historon.compare import How
from historon.insight import Event, Life

__all__ = ["command"]

_SHOWN = 20


@click.command(
    "trace", epilog=example("historon trace edge-1 'vlan 131'", "historon trace edge-1 -e 'permit .* any' --json")
)
@click.argument("source")
@click.argument("text")
@query_options
@click.option("--all", "everything", is_flag=True, help=f"All lines that are found, not only the first {_SHOWN}.")
@reveal_option
@estate_option
@json_option
@pass_app
def command(
    app: App,
    source: str,
    text: str,
    *,
    expression: bool,
    exact_case: bool,
    everything: bool,
    reveal: bool,
    estate_file: str | None,
    as_json: bool,
) -> None:
    """Since when a line has been there, and what it was before.

    Each line that holds TEXT now, or held it once, with its whole life: when it was added, what it was edited from
    and to, where it moved, when it was removed. The newest comes first.
    """
    with app.opened(estate_file) as opened:
        traced = opened.trace(source, text, expression=expression, exact_case=exact_case, reveal=reveal)
        versions = sum(version.good for version in opened.versions(source))
    lives, closed = traced.lives, [{"part": part, "why": why} for part, why in sorted(traced.closed.items())]
    headline = _headline(text, source, lives, versions)
    if as_json:
        print_json("trace", headline, [_as_data(life) for life in lives], not_looked_into=closed)
        return
    click.echo(printable(headline))
    for life in lives if everything else lives[:_SHOWN]:
        _print(life, source, opened.estate.zone)
    if len(lives) > _SHOWN and not everything:
        click.echo(f"not shown: {count(len(lives) - _SHOWN, 'line')} (--all)")
    for one in closed[:_SHOWN]:
        click.echo(printable(f"not looked into at all times: {one['part']}, which {one['why']}"))


def _headline(text: str, source: str, lives: Sequence[Life], versions: int) -> str:
    if not lives:
        return f'"{text}" was found in none of {count(versions, "good version")} of {source}'
    there = sum(life.stands for life in lives)
    gone = f", {len(lives) - there} gone" if len(lives) > there else ""
    return f'"{text}" in {source}: {count(there, "line")} now{gone}'


def _print(life: Life, source: str, zone: tzinfo) -> None:
    from rich.text import Text

    screen = console()
    head = Text(printable(life.line), style="bold" if life.stands else "dim")
    if life.path:
        head = Text(printable(life.path), style="cyan").append("  ").append(head)
    screen.print(head.append("" if life.stands else "  (gone)", "yellow"), soft_wrap=True)
    for event in life.events:
        when = f"  {instant(event.version.at, zone)}  @{event.version.number:<5}"
        screen.print(Text(when, style="dim").append(_words(event, life)), soft_wrap=True)
    screen.print()


def _words(event: Event, life: Life) -> str:
    change = event.change
    first = event is life.events[-1] and change.how is How.ADDED
    if first and event.version.number == 1:
        as_it_was = f" as {printable(change.new)}" if change.new != life.line else ""
        return f"present{as_it_was} since the first version"
    if change.how is How.EDITED:
        return f"edited: {printable(change.words)}"
    if change.how is How.MOVED:
        if change.ranks:
            return f"moved from {change.ranks[0]} to {change.ranks[1]}"
        return "moved"
    return "added" if change.how is How.ADDED else "removed"


def _as_data(life: Life) -> dict[str, object]:
    return {
        "part": life.part,
        "path": life.path,
        "line": life.line,
        "present": life.stands,
        "events": [
            {"version": event.version.number, "at": event.version.at, **change_data(event.change)}
            for event in life.events
        ],
    }
