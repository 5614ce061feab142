"""`historon hold` and `historon vouch` without a version: what they list."""

from collections.abc import Sequence
from datetime import tzinfo

import click

from historon.cli.output import count, instant, print_json, print_table, printable, table
from historon.cli.views.versions import row
from historon.store import Version

__all__ = ["print_marked"]

_WORDS = {"hold": ("held version", "hold"), "vouch": ("vouched version", "remark")}


def print_marked(schema: str, versions: Sequence[Version], zone: tzinfo, *, as_json: bool) -> None:
    """The versions of the whole estate that a person marked so."""
    words, column = _WORDS[schema]
    headline = count(len(versions), words)
    if as_json:
        print_json(schema, headline, [row(one) for one in versions])
        return
    click.echo(headline)
    made = table("version", f"made ({zone})", column, wrap=(column,))
    for one in versions:
        made.add_row(
            f"{one.source}@{one.number}",
            instant(one.at, zone),
            printable((one.held if schema == "hold" else one.note) or ""),
        )
    if versions:
        print_table(made)
