"""What is open now, as people and programs are shown it."""

from collections.abc import Sequence

import click

from historon.cli.output import console, count, instant, printable
from historon.cli.styled import Text
from historon.estate import Estate
from historon.timetable import OpenCondition

__all__ = ["conditions_data", "print_conditions"]

_SHOWN = 20


def conditions_data(conditions: Sequence[OpenCondition]) -> list[dict[str, object]]:
    """What is open, for programs."""
    return [
        {
            "kind": one.kind,
            "severity": one.severity.word,
            "subject": one.subject,
            "source": one.source or None,
            "words": one.words,
            "since": one.since,
            "advice": one.advice,
        }
        for one in conditions
    ]


def print_conditions(estate: Estate, conditions: Sequence[OpenCondition]) -> None:
    """What is open, each with what to do about it."""
    screen = console()
    for one in conditions[:_SHOWN]:
        since = f", since {instant(one.since, estate.zone)}" if one.since else ""
        style = "bold red" if one.is_grave else "yellow"
        text = Text(printable(f"{one.subject}: {one.words}{since}"), style)
        screen.print(text, soft_wrap=True)  # a path is to be copied as one
        if one.advice:
            click.echo(f"  try: {printable(one.advice)}")
    if len(conditions) > _SHOWN:
        click.echo(f"and {count(len(conditions) - _SHOWN, 'more')} (--json)")
