"""`historon sources`: list, add, import, rename, retire, pin."""

import asyncio
from collections.abc import Sequence
from pathlib import Path

import click

from historon.base.errors import ExitCode, UsageError
from historon.cli.app import App, estate_option, example, json_option, pass_app, where_option
from historon.cli.output import console, count, print_failure, print_json, printable
from historon.cli.views import sources as view
from historon.estate import Estate, Source, add_sources, read_rows, select, set_source_key

__all__ = ["command"]

_SHOWN = 40


class _Sources(click.Group):
    """A group whose first command is meant where none is named."""

    def parse_args(self, ctx: click.Context, args: list[str]) -> list[str]:
        if not args or (args[0] not in self.commands and args[0] not in ("--help", "-h")):
            args = ["list", *args]
        return super().parse_args(ctx, args)


@click.group("sources", cls=_Sources, epilog=example("historon sources", "historon sources add --help"))
def command() -> None:
    """List, add, import, rename, retire or pin sources."""


@command.command("list", epilog=example("historon sources", "historon sources --where site=northmole --json"))
@click.argument("names", nargs=-1, metavar="[SOURCE]...")
@where_option
@estate_option
@json_option
@pass_app
def list_sources(
    app: App, names: tuple[str, ...], where: tuple[str, ...], estate_file: str | None, *, as_json: bool
) -> None:
    """List sources with all settings: defaults and CSV rows included."""
    estate = app.estate(estate_file)
    sources = select(estate, names, where)
    if as_json:
        print_json("sources", count(len(sources), "source"), [view.row(estate, source) for source in sources])
    elif sources:
        view.print_all(estate, sources)
    else:
        click.echo("no source yet: add one to the estate file (historon sources add --help)")


@command.command(
    "add", epilog=example("historon sources add edge-2 address=10.20.0.2 procedure=capstan label.site=northmole")
)
@click.argument("name")
@click.argument("settings", nargs=-1, metavar="[KEY=VALUE]...")
@estate_option
@pass_app
def add(app: App, name: str, settings: tuple[str, ...], estate_file: str | None) -> None:
    """Add a source to the estate file.

    Keys are those of [[sources]], and label.NAME and value.NAME. Comments in the file stay. Nothing is written when the
    new source would be a mistake.
    """
    estate = app.estate(estate_file)
    click.echo(add_sources(estate, [{"name": name, **_pairs(settings)}]), nl=False)
    click.echo(f"added to {estate.file}; test it: historon rehearse {name}")


@command.command("retire", epilog=example("historon sources retire edge-1 --because 'replaced by edge-9'"))
@click.argument("names", nargs=-1, metavar="[SOURCE]...")
@click.option(
    "--missing",
    is_flag=True,
    help="Retire every source that has versions, or was accepted, and is not in the estate file.",
)
@click.option("--because", "why", required=True, metavar="REASON", help="Reason why it is no longer collected.")
@estate_option
@pass_app
def retire(app: App, names: tuple[str, ...], *, missing: bool, why: str, estate_file: str | None) -> None:
    """Record that sources are no longer collected; their versions stay.

    Remove the sources from the estate file first. A source that has versions but is neither in the estate file nor
    retired counts as missing.
    """
    with app.opened(estate_file) as opened:
        names = tuple(opened.missing()) if missing else names
        if not names:
            hint = "historon status lists missing sources"
            raise UsageError("no source is missing" if missing else "no source is named", hint=hint)
        for name in names:
            opened.source(name).retire(why)
            click.echo(f"{printable(name)} is retired: {printable(why)}")


@command.command("rename", epilog=example("historon sources rename edge-1 edge-9"))
@click.argument("old", metavar="OLD")
@click.argument("new", metavar="NEW")
@estate_option
@pass_app
def rename(app: App, old: str, new: str, estate_file: str | None) -> None:
    """Continue the versions of a source under another name.

    Rename it in the estate file first, and run this before NEW is collected. Versions keep their numbers, and copies
    follow.
    """
    with app.opened(estate_file) as opened:
        versions = opened.source(old).rename(new)
    click.echo(f"{printable(old)} is now {printable(new)}, with {count(versions, 'version')}")


@command.command(
    "import",
    epilog=example(
        "historon sources import devices.csv --dry-run",
        "historon sources import devices.csv --map name=Hostname --map address=IP --set procedure=capstan",
    ),
)
@click.argument("file", type=click.Path(dir_okay=False, path_type=Path))
@click.option(
    "--map", "columns", multiple=True, metavar="KEY=COLUMN", help="Name of the column for this key; repeatable."
)
@click.option(
    "--set", "fixed", multiple=True, metavar="KEY=VALUE", help="Set this key for all new sources; repeatable."
)
@click.option("--dry-run", is_flag=True, help="Show what would be added. Changes nothing.")
@estate_option
@pass_app
def import_sources(
    app: App, file: Path, columns: tuple[str, ...], fixed: tuple[str, ...], *, dry_run: bool, estate_file: str | None
) -> None:
    """Add sources from a CSV file.

    Without --map, columns have the names of the keys. Sources that already exist are not changed.
    """
    estate = app.estate(estate_file)
    rows = read_rows(file, _pairs(columns), _pairs(fixed))
    new = [row for row in rows if row.get("name") not in estate.sources]
    added = add_sources(estate, new, dry_run=dry_run) if new else ""
    lines = added.splitlines()
    click.echo("\n".join(lines[:_SHOWN]))
    if len(lines) > _SHOWN:
        click.echo(f"… {len(lines) - _SHOWN} more lines")
    there = f", {len(rows) - len(new)} already there" if len(rows) > len(new) else ""
    click.echo(f"{count(len(new), 'source')} {'would be added' if dry_run else 'added'} to {estate.file}{there}")


@command.command(
    "pin", epilog=example("historon sources pin edge-1", "historon sources pin --where site=northmole --yes")
)
@click.argument("names", nargs=-1, metavar="[SOURCE]...")
@where_option
@click.option("--yes", is_flag=True, help="Pin without asking: only on a network that you trust.")
@estate_option
@pass_app
def pin(app: App, names: tuple[str, ...], where: tuple[str, ...], *, yes: bool, estate_file: str | None) -> int:
    """Pin the host key or certificate of a source.

    Compare the fingerprint with the one on the device's own console. When you confirm, it is written to the estate
    file.
    """
    estate = app.estate(estate_file)
    if not names and not where:
        raise UsageError("no source is named", hint="name sources, or choose them by --where")
    failed = [source.name for source in select(estate, names, where) if not _pin(app, estate, source, yes=yes)]
    return ExitCode.SOURCES if failed else ExitCode.WELL


def _pin(app: App, estate: Estate, source: Source, *, yes: bool) -> bool:
    from historon.collect import CollectError, Failure, shown_identity
    from historon.versions import Masks

    with app.store(estate) as store:
        try:
            shown = asyncio.run(shown_identity(estate, source, store, clock=app.clock))
        except CollectError as exc:
            print_failure(console(), [source.name], Failure.of(exc, Masks()))
            return False
    known = getattr(source, shown.setting)
    click.echo(f"{source.name}: {shown.algorithm} {shown.fingerprint}")
    if known == shown.fingerprint:
        click.echo("  already pinned")
        return True
    if known:
        click.echo(f"  DIFFERENT from the pinned {known}: was it replaced or renewed?")
    if not yes and not (app.interactive and click.confirm("  Does the device's own console show the same?")):
        click.echo("  nothing was changed; confirm on a terminal, or add --yes")
        return False
    if not set_source_key(estate, source.name, shown.setting, shown.fingerprint):
        click.echo(f"  this source is in {estate.settings.sources_from}: write it into the column {shown.setting}")
        return False
    click.echo(f"  pinned in {estate.file}")
    return True


def _pairs(written: Sequence[str]) -> dict[str, str]:
    pairs = {}
    for one in written:
        key, equals, value = one.partition("=")
        if not key or not equals:
            raise UsageError(f'"{one}" is not KEY=VALUE', hint="write for example address=10.20.0.1")
        pairs[key] = value
    return pairs
