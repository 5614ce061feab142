"""`historon restore`."""

from pathlib import Path

import click

from historon.cli.app import App, estate_option, example, pass_app
from historon.cli.output import count, instant, printable, size_text
from historon.errors import UsageError
from historon.store import Version

__all__ = ["command"]


@click.command(
    "restore",
    epilog=example(
        "historon restore edge-1 --to /tmp/edge-1",
        "historon restore files@2026-06-14 --only etc/app --to /srv/back",
        "historon restore edge-1@3d --only 'interface port-3' --to /tmp/edge-1",
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
@click.option(
    "--only",
    metavar="TEXT",
    help="Only this part, a folder of parts, parts by a pattern, or what stands under this place in the outline.",
)
@click.option("--overwrite", is_flag=True, help="Replace files that are there already.")
@click.option("--permissions", is_flag=True, help="Give files of a tree the permissions and owners that they had.")
@click.option("--outward-links", is_flag=True, help="Also make links that lead out of the folder.")
@click.option("--suspect", is_flag=True, help="Restore a suspect version without being asked.")
@estate_option
@pass_app
def command(
    app: App,
    version: str,
    folder: Path,
    only: str | None,
    *,
    overwrite: bool,
    permissions: bool,
    outward_links: bool,
    suspect: bool,
    estate_file: str | None,
) -> None:
    """Write a version, or a part of it, to a folder.

    Byte for byte as it was collected, checked against its SHA-256; secrets included, so files and folders are readable
    by you alone. Those of a tree get their times and links back, and with --permissions their permissions and, for
    root, owners, which others may then read them by. Of a suspect version it asks first, or needs --suspect.
    """
    with app.opened(estate_file) as opened:
        found = opened.version(version)
        if not found.good and not suspect:
            _confirm_suspect(app, found)
        restored = opened.restore(
            found, folder, only=only, overwrite=overwrite, permissions=permissions, outward_links=outward_links
        )
    files = restored.files
    for file, size in files:
        click.echo(f"{printable(str(file))}  {size_text(size)}")
    for why in restored.left_out:
        click.echo(f"left out: {printable(why)}")
    name = f"{found.source}@{found.number}"
    made = f"{'good' if found.good else 'SUSPECT'}, from {instant(found.at, opened.estate.zone, named=True)}"
    readable = "with the permissions that they had" if permissions else "readable by you alone"
    written = (
        f"{count(len(files), 'file')} written, {readable}" if files or not restored.already else "nothing to write"
    )
    there = f"; {count(len(restored.already), 'file')} there already, byte for byte" if restored.already else ""
    click.echo(f"{name} ({made}): {written}{there}")


def _confirm_suspect(app: App, version: Version) -> None:
    name = f"{version.source}@{version.number}"
    why = f": {printable(version.note)}" if version.note else ""
    if not app.interactive:
        raise UsageError(f"{name} is suspect{why}; nothing was written", hint="--suspect, if it is wanted all the same")
    click.echo(f"{name} is suspect{why}")
    click.confirm("Restore it all the same?", abort=True)
