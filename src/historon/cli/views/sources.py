"""`historon sources`: what it shows."""

from collections.abc import Sequence

import click

from historon.cli.output import count, print_table, printable, table
from historon.estate import Estate, Source

__all__ = ["print_all", "row"]


def print_all(estate: Estate, sources: Sequence[Source]) -> None:
    """Each source in a line."""
    click.echo(count(len(sources), "source"))
    made = table("source", "address", "procedure", "max_age", "labels", wrap=["labels"])
    for source in sources:
        labels = [f"{label}={value}" for label, value in sorted(source.labels.items())]
        until = f" until {source.skip_until}" if source.skip_until is not None else ""
        skipped = [f"(skipped{until}: {source.skip})"] if source.skip is not None else []
        made.add_row(
            source.name,
            printable(f"{source.address}:{source.port}" if source.port else source.address),
            source.procedure,
            str(source.max_age) if source.max_age else "-",
            printable(" ".join([*labels, *skipped])),
        )
    print_table(made)


def row(estate: Estate, source: Source) -> dict[str, object]:
    """A source, for programs."""
    return {
        "source": source.name,
        "address": source.address,
        "port": source.port,
        "procedure": source.procedure,
        "over": estate.procedure_of(source).over,
        "credentials": source.credentials,
        "retention": source.retention,
        "max_age_s": source.max_age,
        "pinned": source.host_key is not None or source.certificate is not None,
        "via": source.via,
        "skip": source.skip,
        "skip_until": source.skip_until,
        "labels": source.labels,
    }
