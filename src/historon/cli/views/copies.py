"""`historon copies`: what it shows."""

from collections.abc import Sequence
from datetime import datetime

import click

from historon.cli.output import count, instant, print_table, printable, table
from historon.copies import CopyStatus
from historon.estate import Copy, Estate, describe

__all__ = ["headline", "print_all", "row"]


def headline(statuses: Sequence[CopyStatus], now: datetime) -> str:
    """How the copies stand, in one line."""
    if not statuses:
        return "there is no copy: write one in [copies] of the estate file"
    late = sum(one.overdue(now) for one in statuses)
    behind = sum(one.missing_since is not None for one in statuses) - late
    current = len(statuses) - late - behind
    states = ((late, "BEHIND for too long"), (behind, "behind"), (current, "up to date"))
    told = [f"{number} {state}" for number, state in states if number]
    return f"{count(len(statuses), 'copy', 'copies')}: {', '.join(told)}"


def print_all(statuses: Sequence[CopyStatus], estate: Estate, now: datetime) -> None:
    """Each copy with its state."""
    click.echo(headline(statuses, now))
    made = table("copy", "kind", "state", f"as of ({estate.zone})", "where", wrap=("where",))
    for one in statuses:
        at = instant(one.at, estate.zone) if one.at else "never"
        made.add_row(one.name, one.copy.kind, _state(one, now), at, printable(_where(one.copy, estate)))
    if statuses:
        print_table(made)


def _where(copy: Copy, estate: Estate) -> str:
    return copy.place if copy.writes_to is None else str(estate.path(copy.path))


def _state(one: CopyStatus, now: datetime) -> str:
    behind = one.behind(now)
    if behind is None:
        if one.left_out:
            return f"up to date but for {count(one.left_out, 'part')}"
        return "up to date"
    return f"{'BEHIND' if one.overdue(now) else 'behind'} for {describe(behind)} of {one.copy.max_lag}"


def row(one: CopyStatus, now: datetime) -> dict[str, object]:
    """A copy, for programs."""
    behind = one.behind(now)
    state = "up to date"
    if behind is not None:
        state = "behind for too long" if one.overdue(now) else "behind"
    return {
        "copy": one.name,
        "kind": one.copy.kind,
        "path": one.copy.place,
        "state": state,
        "as_of": one.at,
        "left_out": one.left_out,
        "missing_since": one.missing_since,
        "lag_s": behind,
        "max_lag_s": one.copy.max_lag,
    }
