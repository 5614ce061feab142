"""`historon restore`."""

from pathlib import Path

import click

from historon.cli.app import App, estate_option, example, pass_app
from historon.cli.output import count, instant, printable, size_text
from historon.restore import write_version
from historon.store import Reference, resolve

__all__ = ["command"]


@click.command(
    "restore",
    epilog=example(
        "historon restore edge-1 --to /tmp/edge-1", "historon restore files@2026-06-14 --part etc/app --to /srv/back"
    ),
)
@click.argument("version", metavar="SOURCE[@WHEN]")
@click.option(
    "--to",
    "folder",
    required=True,
    metavar="DIR",
    type=click.Path(file_okay=False, path_type=Path),
    help="Where to write it; made when it is not there.",
)
@click.option("--part", help="Only this part, or the parts in the folder of this name.")
@click.option("--overwrite", is_flag=True, help="Replace files that are there already.")
@estate_option
@pass_app
def command(
    app: App, version: str, folder: Path, part: str | None, *, overwrite: bool, estate_file: str | None
) -> None:
    """Write a version, or a part of it, to a folder.

    Byte for byte as it was collected, checked against its SHA-256; secrets included, so the files are readable by you
    alone, but for those of a tree, which get their permissions, times, links and (for root) owners back.
    """
    estate = app.estate(estate_file)
    with app.store(estate) as store:
        found = resolve(store, Reference.parse(version), now=app.clock(), zone=estate.zone)
        files = write_version(store, found, folder, within=part, overwrite=overwrite)
    for file, stored in files:
        click.echo(f"{printable(str(file))}  {size_text(stored.size)}")
    click.echo(
        f"{found.source}@{found.number} of {instant(found.at, estate.zone)}: {count(len(files), 'file')} written"
    )
