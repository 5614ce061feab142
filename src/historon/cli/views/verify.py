"""`historon verify`: what it shows."""

import click

from historon.base.quantities import size_text
from historon.cli.output import console, count, printable
from historon.cli.styled import Text
from historon.store import Verification

__all__ = ["print_all", "read", "verdict"]

_SHOWN = 40


def print_all(found: Verification) -> None:
    """What was read, and what is damaged."""
    screen = console()
    troubles = [f"the ledger: {one}" for one in found.ledger] + [str(one) for one in found.damages]
    for one in troubles[:_SHOWN]:
        screen.print(Text(printable(one), "bold red"), soft_wrap=True)
    if len(troubles) > _SHOWN:
        click.echo(f"… {len(troubles) - _SHOWN} more: historon verify --json")
    told = Text(verdict(found), "green" if found.well else "bold red")
    screen.print(Text(f"{read(found)}: ").append(told), soft_wrap=True)
    if troubles:
        click.echo("  try: copy the store's folder before anything else; then rebuild the store from a copy")


def read(found: Verification) -> str:
    """How much was read."""
    what = f"{count(found.contents, 'content')} of {count(found.versions, 'version')}, {count(found.sources, 'source')}"
    return f"{what}: {size_text(found.bytes)} read"


def verdict(found: Verification) -> str:
    """Whether all of it is as written."""
    damaged = len(found.ledger) + len(found.damages)
    return f"{damaged} DAMAGED" if damaged else "all intact"
