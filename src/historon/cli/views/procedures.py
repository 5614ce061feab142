"""`historon procedures`: what it shows."""

from collections.abc import Sequence

import click

from historon.cli.output import count, print_table, printable, table
from historon.estate import Procedure, Step, walk

__all__ = ["print_all", "row"]


def print_all(known: dict[str, Procedure], used: list[str]) -> None:
    """Each procedure in a line."""
    made = table("procedure", "over", "sources", "about", right=["sources"], wrap=["about"])
    for name in sorted(known, key=lambda one: (not used.count(one), one)):
        about = known[name].about.strip().partition("\n")[0]
        made.add_row(name, known[name].over, str(used.count(name) or "-"), printable(about or "-"))
    click.echo(f"{count(len(known), 'procedure')}; historon procedures NAME explains one")
    print_table(made)


def _step_row(place: Sequence[str | int], step: Step) -> dict[str, object]:
    """Where a step stands, `[2, 1]` for the first within the second; what it does; and which clauses say more."""
    numbers = [one + 1 for one in place if isinstance(one, int)]
    return {"number": numbers, "what": str(step), "clauses": [one for one in step.clauses if one != "steps"]}


def row(name: str, procedure: Procedure, used: int) -> dict[str, object]:
    """A procedure, for programs."""
    return {
        "procedure": name,
        "over": procedure.over,
        "about": procedure.about.strip(),
        "sources": used,
        "values": procedure.values,
        "steps": [_step_row(place, step) for place, step in walk(procedure.steps)],
        "push": [_step_row(place, step) for place, step in walk(procedure.push)],
        "push_confirm": [_step_row(place, step) for place, step in walk(procedure.push_confirm)],
        "proof": procedure.proof,
    }
