"""`historon sources`."""

from collections.abc import Sequence

import click

from historon.cli.app import App, estate_option, example, json_option, pass_app, where_option
from historon.cli.output import count, print_json, print_table, printable, table
from historon.estate import Estate, Source, describe, select

__all__ = ["command"]


@click.command("sources", epilog=example("historon sources", "historon sources --where site=northmole --json"))
@click.argument("names", nargs=-1, metavar="[SOURCE]...")
@where_option
@estate_option
@json_option
@pass_app
def command(
    app: App, names: tuple[str, ...], where: tuple[str, ...], estate_file: str | None, *, as_json: bool
) -> None:
    """The sources that the estate file describes.

    As they are understood: with the defaults, and with those from the CSV.
    """
    estate = app.estate(estate_file)
    sources = select(estate, names, where)
    if as_json:
        print_json([_row(estate, source) for source in sources])
    elif sources:
        _print_sources(estate, sources)
    else:
        click.echo("no source: describe some in the estate file, or widen --where")


def _print_sources(estate: Estate, sources: Sequence[Source]) -> None:
    made = table("source", "address", "procedure", "promise", "labels", wrap=["labels"])
    for source in sources:
        labels = [f"{label}={value}" for label, value in sorted(source.labels.items())]
        skipped = [f"(skipped: {source.skip})"] if source.skip is not None else []
        made.add_row(
            source.name,
            printable(f"{source.address}:{source.port}" if source.port else source.address),
            source.procedure,
            describe(source.promise) if source.promise else "-",
            printable(" ".join([*labels, *skipped])),
        )
    print_table(made)
    click.echo(f"\n{count(len(sources), 'source')}")


def _row(estate: Estate, source: Source) -> dict[str, object]:
    return {
        "source": source.name,
        "address": source.address,
        "port": source.port,
        "procedure": source.procedure,
        "over": estate.procedure_of(source).over,
        "credentials": source.credentials,
        "retention": source.retention,
        "promise_s": source.promise,
        "pinned": source.host_key is not None,
        "skip": source.skip,
        "labels": source.labels,
    }
