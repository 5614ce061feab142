"""How things look on a screen, and how the same things are given to a program."""

import sys
import textwrap
from collections.abc import Collection, Sequence
from datetime import datetime, timedelta, tzinfo
from typing import TYPE_CHECKING, Any

import click
import msgspec

from historon.base.quantities import for_people, utc_text
from historon.base.visible import made_visible
from historon.cli import tables
from historon.cli.app import columns_given
from historon.cli.styled import Screen, Text
from historon.cli.tables import Table
from historon.estate import describe

if TYPE_CHECKING:
    from historon.collect import Failure
    from historon.store import Version

__all__ = [
    "STYLES",
    "columns_wide",
    "console",
    "count",
    "excerpt",
    "instant",
    "print_failure",
    "print_json",
    "print_labelled",
    "print_pruned",
    "print_table",
    "printable",
    "since",
    "table",
    "warn_if_suspect",
]

STYLES = {
    "new": "cyan",
    "changed": "cyan",
    "unchanged": "dim",
    "suspect": "yellow",
    "failed": "bold red",
    "skipped": "dim",
    "fresh": "green",
    "ageing": "yellow",
    "overdue": "bold red",
    "frozen": "cyan",
    "never": "bold red",
    "no limit": "dim",
    "good": "",
    "noise": "dim",
    "met": "",
    "not met": "bold red",
    "unknown": "yellow",
}

_TAIL_LINES = 4
_LABEL = 11  # columns of a label, with the blanks around it
_EXCERPT_LINES, _EXCERPT_WIDTH = 3, 160


def printable(text: str) -> str:
    r"""The text with everything that a terminal would act on, or nobody would see, written out, such as `\x1b`."""
    return made_visible(text, kept="\t\n")


def console(*, stderr: bool = False) -> Screen:
    """Where tables and colours go."""
    return Screen(stderr=stderr)


def columns_wide() -> int | None:
    """The width of the screen, or of $COLUMNS where the output is piped; None for as wide as the text."""
    screen = console()
    if screen.is_terminal:
        return screen.width
    return columns_given()


def table(*columns: str, right: Collection[str] = (), wrap: Collection[str] = ("note",)) -> Table:
    """A table with these headings; see Table."""
    return Table(columns, right, wrap)


def print_table(made: Table) -> None:
    """The table, as wide as the screen allows."""
    tables.print_table(made, console())


def print_json(schema: str, headline: str, rows: Sequence[Any], **more: Any) -> None:
    """One JSON document, in the form that docs/json.md describes: instants in UTC (RFC 3339), spans in seconds."""
    data = {"schema": f"historon/{schema}/1", "headline": headline, **more, "rows": rows}
    encoded = msgspec.json.encode(_plain(data))
    sys.stdout.write(msgspec.json.format(encoded, indent=2).decode() + "\n")


def _plain(data: Any) -> Any:
    if isinstance(data, dict):
        return {key: _plain(value) for key, value in data.items()}
    if isinstance(data, str):
        # msgspec knows neither kinds of text of our own nor lone surrogates.
        return data.encode("utf-8", "replace").decode()
    if isinstance(data, Sequence):
        return [_plain(value) for value in data]
    if isinstance(data, datetime):
        return utc_text(data)
    if isinstance(data, timedelta):
        return round(data.total_seconds(), 3)
    return data


def print_failure(screen: Screen, sources: "Sequence[str]", failure: "Failure") -> None:
    """Why sources failed, all for one reason: where, what, what came back last, and what to try."""
    many = f" ({len(sources)} sources, for the same reason)" if len(sources) > 1 else ""
    screen.print(Text(f"{', '.join(sources)}: failed{many}", style=STYLES["failed"]))
    if failure.step:
        print_labelled(screen, "where", printable(failure.step))
    print_labelled(screen, "what", printable(failure.message))
    for line in failure.tail.splitlines()[-_TAIL_LINES:]:
        screen.print(Text(f"           | {printable(line)[:200]}", style="dim"))
    print_labelled(screen, "try", printable(failure.hint))


def print_labelled(screen: Screen, label: str, text: str) -> None:
    """A line with its label before it; on a terminal a long one goes on under its own column."""
    lines = [text]
    if screen.is_terminal and text:
        lines = textwrap.wrap(text, max(screen.width - _LABEL, 20), break_on_hyphens=False)
    screen.print(Text(f"  {label:<9}" + ("\n" + " " * _LABEL).join(lines)))


def warn_if_suspect(version: "Version") -> None:
    """Say, beside the output, that what is shown or compared is an export that was set aside."""
    if not version.good:
        why = f": {printable(version.note)}" if version.note else ""
        click.echo(f"historon: warning: {version.source}@{version.number} is suspect{why}", err=True)


def excerpt(answer: bytes) -> list[str]:
    """How the answer begins and ends: enough to see whether it is the right one, and whole."""
    lines = [printable(line)[:_EXCERPT_WIDTH] for line in answer.decode("utf-8", "replace").splitlines()]
    if len(lines) <= 2 * _EXCERPT_LINES + 1:
        return lines
    return [*lines[:_EXCERPT_LINES], f"… {len(lines) - 2 * _EXCERPT_LINES} lines …", *lines[-_EXCERPT_LINES:]]


def instant(at: datetime | None, zone: tzinfo, *, named: bool = False) -> str:
    """An instant in the estate's own time zone; `-` for none."""
    return for_people(at, zone, named=named) if at else "-"


def since(span: timedelta | None) -> str:
    """How long ago; `-` for never."""
    if span is None:
        return "-"
    return "just now" if span < timedelta(seconds=2) else f"{describe(span)} ago"


def count(number: int, thing: str, things: str = "") -> str:
    """`1 source`, `3 sources`; `things` where an s does not do."""
    return f"{number:,} {thing if number == 1 else things or thing + 's'}"


def print_pruned(number: int, span: str) -> None:
    """That versions of a span were removed, so that changes in them are missing from what was printed."""
    if number:
        click.echo(
            f"{count(number, 'version')} {span} {'was' if number == 1 else 'were'} pruned: their changes are unknown"
        )
