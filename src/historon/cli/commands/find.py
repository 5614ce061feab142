"""`historon find`."""

from collections.abc import Mapping, Sequence
from datetime import tzinfo
from itertools import groupby

import click

from historon.cli.app import (
    App,
    estate_option,
    example,
    json_option,
    pass_app,
    query_options,
    reveal_option,
    where_option,
)
from historon.cli.output import console, count, instant, print_json, printable
from historon.insight import Hit

__all__ = ["command"]

_SHOWN = 200
_NAMED = 5  # parts that were not looked into
_LONGEST = 200


@click.command(
    "find",
    epilog=example(
        "historon find 10.20.0.9",
        "historon find 'permit any' --where role=edge",
        "historon find -e 'time-server 10\\.20\\.\\d+' --at 2026-06-14",
        "historon find shutdown --ever",
    ),
)
@click.argument("text")
@where_option
@click.option("--at", "when", metavar="WHEN", help="As it stood then: a date, an instant or an age.")
@click.option("--ever", is_flag=True, help="In all of history, with when each line came and went.")
@query_options
@click.option("--all", "everything", is_flag=True, help=f"All lines that are found, not only the first {_SHOWN}.")
@reveal_option
@estate_option
@json_option
@pass_app
def command(
    app: App,
    text: str,
    where: tuple[str, ...],
    when: str | None,
    *,
    ever: bool,
    expression: bool,
    exact_case: bool,
    everything: bool,
    reveal: bool,
    estate_file: str | None,
    as_json: bool,
) -> None:
    """Where a text is now, or ever was.

    Looks in the latest version of each source, also into archives, and shows each line under its path. Capitals and
    small letters are the same. Binary parts are not looked into; nor are those over 16 MiB and archives that are
    damaged or encrypted, which are named.
    """
    with app.opened(estate_file) as opened:
        search = opened.find(
            text, where=where, at=when, ever=ever, expression=expression, exact_case=exact_case, reveal=reveal
        )
    found, closed = search.hits, search.closed
    headline = _headline(found, search.sources, text, closed)
    if as_json:
        print_json("find", headline, [_as_data(hit, ever=ever) for hit in found], not_looked_into=_beside(closed))
        return
    click.echo(printable(headline))
    _print(found if everything else found[:_SHOWN], opened.estate.zone, ever=ever)
    if len(found) > _SHOWN and not everything:
        click.echo(f"not shown: {count(len(found) - _SHOWN, 'line')} (--all)")
    for one in _beside(closed)[:_NAMED]:
        click.echo(printable(f"not looked into: {one['source']} {one['part']}, which {one['why']}"))
    if len(closed) > _NAMED:
        click.echo(f"not looked into: {count(len(closed) - _NAMED, 'more part')} (--json names them all)")


def _beside(closed: Mapping[tuple[str, str], str]) -> list[dict[str, str]]:
    return [{"source": source, "part": part, "why": why} for (source, part), why in sorted(closed.items())]


def _print(found: Sequence[Hit], zone: tzinfo, *, ever: bool) -> None:
    from rich.text import Text

    screen = console()
    for (source, part), hits in groupby(found, key=lambda hit: (hit.source, hit.part)):
        screen.print(Text.assemble((printable(source), "bold"), (f"  {printable(part)}", "dim")))
        for hit in hits:
            line = Text(f"  {hit.number:>5}  ", style="dim")
            if hit.path:
                line.append(printable(hit.path), "cyan").append("  ")
            gone = hit.gone is not None
            line.append(_cut(printable(hit.line)), "dim" if gone else "not dim")
            if ever and hit.came:
                line.append(f"  since {instant(hit.came.at, zone)} @{hit.came.number}", "dim")
                line.append(f", gone {instant(hit.gone.at, zone)} @{hit.gone.number}" if hit.gone else "", "yellow")
            screen.print(line, soft_wrap=True)


def _cut(text: str) -> str:
    return text if len(text) <= _LONGEST else text[: _LONGEST - 1] + "…"


def _headline(found: Sequence[Hit], sources: int, text: str, closed: Mapping[tuple[str, str], str]) -> str:
    if not found:
        but = f"; {count(len(closed), 'part')} could not be looked into" if closed else ""
        return f'"{text}" was found in none of {count(sources, "source")}{but}'
    having = len({hit.source for hit in found})
    return f'"{text}": {count(len(found), "line")} in {having} of {count(sources, "source")}'


def _as_data(hit: Hit, *, ever: bool) -> dict[str, object]:
    life = {
        "came": hit.came and {"version": hit.came.number, "at": hit.came.at},
        "gone": hit.gone and {"version": hit.gone.number, "at": hit.gone.at},
    }
    return {
        "source": hit.source,
        "part": hit.part,
        "line_number": hit.number,
        "path": hit.path,
        "line": hit.line,
        **(life if ever else {}),
    }
