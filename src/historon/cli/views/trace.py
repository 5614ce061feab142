"""`historon trace`: what it shows."""

from collections.abc import Sequence
from datetime import tzinfo

from historon.cli.differences import change_data
from historon.cli.output import console, count, instant, printable
from historon.cli.styled import Text
from historon.compare import How
from historon.insight import Event, Life

__all__ = ["as_data", "headline", "print_life"]


def headline(text: str, source: str, lives: Sequence[Life], versions: int) -> str:
    """How many lines were traced, in one line."""
    if not lives:
        return f'"{text}" is in none of {count(versions, "good version")} of {source}'
    there = sum(life.stands for life in lives)
    gone = f", {len(lives) - there} removed" if len(lives) > there else ""
    return f'"{text}" in {source}: {count(there, "line")} now{gone}'


def print_life(life: Life, source: str, zone: tzinfo, oldest: int | None = None) -> None:
    """A line with what became of it; `oldest` is the oldest version kept, where others before it were removed."""
    screen = console()
    head = Text(printable(life.line), style="bold" if life.stands else "dim")
    if life.path:
        head = Text(printable(life.path), style="cyan").append("  ").append(head)
    screen.print(head.append("" if life.stands else "  (removed)", "yellow"), soft_wrap=True)
    for event in life.events:
        when = f"  {instant(event.version.at, zone)}  @{event.version.number:<5}"
        screen.print(Text(when, style="dim").append(_words(event, life, oldest)), soft_wrap=True)
    screen.print()


def _words(event: Event, life: Life, oldest: int | None) -> str:
    change = event.change
    first = event is life.events[-1] and change.how is How.ADDED
    if first and event.version.number == oldest:
        return f"already there in @{oldest}, the oldest version"
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


def as_data(life: Life, oldest: int | None = None) -> dict[str, object]:
    """A line and what became of it, for programs."""
    first = life.events[-1] if life.events else None
    known = first is not None and not (first.change.how is How.ADDED and first.version.number == oldest)
    return {
        "beginning_known": known,
        "part": life.part,
        "path": life.path,
        "line": life.line,
        "present": life.stands,
        "events": [
            {"version": event.version.number, "at": event.version.at, **change_data(event.change)}
            for event in life.events
        ],
    }
