"""`historon restore`."""

import os
import sys
from collections.abc import Sequence
from pathlib import Path

import click

from historon.api import Historon
from historon.cli.app import App, estate_option, example, pass_app, where_option
from historon.cli.output import count, printable
from historon.cli.views import restore as view
from historon.errors import OutsideError, UsageError
from historon.restore import Naming
from historon.store import Version

__all__ = ["command"]


@click.command(
    "restore",
    epilog=example(
        "historon restore edge-1 --to /tmp/edge-1",
        "historon restore files@2026-06-14 --only etc/app --to /srv/back",
        "historon restore edge-1@3d --only 'interface port-3' --to /tmp/edge-1",
        "historon restore files@3d --only etc/app.conf --over-originals",
        "historon restore --where site=northmole --at 2026-06-14 --tar northmole.tar",
    ),
)
@click.argument("versions", nargs=-1, metavar="[SOURCE[@WHEN]]...")
@where_option
@click.option("--at", metavar="WHEN", help="As of this moment: of each source the last good version then.")
@click.option(
    "--to",
    "folder",
    metavar="DIR",
    type=click.Path(file_okay=False, path_type=Path),
    help="Where to write it; made when it is not there. Of several sources each gets a folder in it.",
)
@click.option("--tar", metavar="FILE", help="Write one tar instead; - is the standard output.")
@click.option(
    "--over-originals",
    is_flag=True,
    help="Restore files of this machine to their original paths; shows the changes first.",
)
@click.option(
    "--only",
    metavar="TEXT",
    multiple=True,
    help="Only this part, folder of parts, parts by a pattern, or place in the outline; may be given several times.",
)
@click.option("--missing", is_flag=True, help="Restore only what is not there; leave everything else as it is.")
@click.option("--date-in-names", is_flag=True, help="Put the version's instant into the name of each file.")
@click.option("--overwrite", is_flag=True, help="Replace files that are there already.")
@click.option("--permissions", is_flag=True, help="Give files of a tree the permissions and owners that they had.")
@click.option("--outward-links", is_flag=True, help="Also make links that lead out of the folder.")
@click.option("--suspect", is_flag=True, help="Restore a suspect version without being asked.")
@click.option("--yes", is_flag=True, help="With --over-originals, do it without asking.")
@estate_option
@pass_app
def command(
    app: App,
    versions: tuple[str, ...],
    where: tuple[str, ...],
    at: str | None,
    folder: Path | None,
    tar: str | None,
    only: tuple[str, ...],
    *,
    missing: bool,
    over_originals: bool,
    date_in_names: bool,
    overwrite: bool,
    permissions: bool,
    outward_links: bool,
    suspect: bool,
    yes: bool,
    estate_file: str | None,
) -> None:
    """Write versions, or a part of them, to a folder, into a tar, or back to where they were.

    Byte for byte as they were collected, checked against their SHA-256; secrets included, so files and folders are
    readable by you alone. Those of a tree get their times and links back, and with --permissions their permissions
    and, for root, owners, which others may then read them by. Of a suspect version it asks first, or needs --suspect.
    """
    _check_options(folder, tar, over_originals, dated=date_in_names, missing=missing, overwrite=overwrite)
    with app.opened(estate_file) as opened:
        found = _chosen(opened, versions, where, at)
        for one in found:
            if not one.good and not suspect:
                _confirm_suspect(app, one)
        if tar is not None:
            _write_tar(opened, found, tar, only, dated=date_in_names)
        elif over_originals:
            for one in found:
                _give_back(app, opened, one, only, missing=missing, yes=yes)
        elif folder is not None:
            for one in found:
                below = one.source if len(found) > 1 else ""
                naming = Naming(at=one.at if date_in_names else None, below=below)
                restored = opened.restore(
                    one,
                    folder,
                    only=only,
                    overwrite=overwrite,
                    missing=missing,
                    permissions=permissions,
                    outward_links=outward_links,
                    naming=naming,
                )
                view.print_restored(opened, one, restored, "with the permissions that they had" if permissions else "")


def _check_options(
    folder: Path | None, tar: str | None, over_originals: bool, *, dated: bool, missing: bool, overwrite: bool
) -> None:
    if [folder is not None, tar is not None, over_originals].count(True) != 1:
        raise UsageError("where to? One of --to, --tar and --over-originals", hint="historon restore SOURCE --to DIR")
    if over_originals and dated:
        raise UsageError(
            "files at their original paths have no instant in their names", hint="leave out --date-in-names"
        )
    if missing and (tar is not None or overwrite):
        raise UsageError("--missing writes over nothing", hint="leave out --overwrite; a tar is always whole")


def _chosen(opened: Historon, versions: Sequence[str], where: Sequence[str], at: str | None) -> list[Version]:
    """The versions that are meant. UsageError when there is none of a source, or none is named."""
    if not versions and not where and at is None:
        raise UsageError("which source? Name some, or choose them by --where or --at", hint="historon restore SOURCE")
    if any("@" in one for one in versions) and at is not None:
        raise UsageError("SOURCE@WHEN and --at both say when", hint="leave out one of them")
    if versions and not where:
        return [opened.version(f"{one}@{at}" if at is not None else one) for one in versions]
    found = []
    for source in opened.sources(*versions, where=where):
        name = f"{source.name}@{at}" if at is not None else source.name
        try:
            found.append(opened.version(name))
        except UsageError as exc:
            click.echo(f"{source.name}: left out: {printable(exc.message)}", err=True)
    if not found:
        raise UsageError("none of these sources has a version then", hint="historon versions SOURCE")
    return found


def _write_tar(opened: Historon, found: Sequence[Version], tar: str, only: Sequence[str], *, dated: bool) -> None:
    if tar == "-":
        if sys.stdout.isatty():
            raise UsageError("a tar is not for a terminal", hint="--tar FILE, or pipe it on")
        number = opened.restore_tar(found, sys.stdout.buffer, only=only, dated=dated)
    else:
        try:
            with open(tar, "xb", opener=_private) as out:
                try:
                    number = opened.restore_tar(found, out, only=only, dated=dated)
                except BaseException:
                    Path(tar).unlink()  # a part of it is worse than nothing
                    raise
        except FileExistsError as exc:
            raise OutsideError(f"{tar} is there already; nothing was written", hint="give another name") from exc
        except OSError as exc:
            raise OutsideError(f"{tar}: {exc.strerror}", hint="is there room, and may it be written?") from exc
    told = f"{count(number, 'file')} of {count(len(found), 'version')} written, readable by you alone"
    click.echo(f"{tar}: {told}" if tar != "-" else told, err=tar == "-")


def _private(path: str, flags: int) -> int:
    return os.open(path, flags, 0o600)


def _give_back(app: App, opened: Historon, version: Version, only: Sequence[str], *, missing: bool, yes: bool) -> None:
    """Show what is missing or differs, and restore exactly that when it is confirmed."""
    state = opened.originals(version, only=only, missing=missing)
    name = f"{version.source}@{version.number}"
    for stranger in state.strangers[: view.LISTED]:
        click.echo(f"not in this version, left as it is: {printable(str(stranger))}")
    if len(state.strangers) > view.LISTED:
        click.echo(f"not in this version, left as they are: {len(state.strangers) - view.LISTED} more")
    if not state.differing:
        there = "there" if missing else "identical"
        click.echo(f"{name}: nothing to restore: {count(state.same, 'file')} are already {there}")
        return
    view.print_differing(opened, version, state)
    if not yes:
        if not app.interactive:
            raise UsageError("nothing was changed: this is what would be restored", hint="--yes does it")
        click.confirm(f"Restore {count(len(state.differing), 'file')} to the original paths?", abort=True)
        if opened.originals(version, only=only, missing=missing).differing != state.differing:
            raise OutsideError("the files changed meanwhile; nothing was written", hint="look at them once more")
    restored = opened.restore_over_originals(state)
    view.print_restored(opened, version, restored, "with their owners, permissions and times as far as they are known")


def _confirm_suspect(app: App, version: Version) -> None:
    name = f"{version.source}@{version.number}"
    why = f": {printable(version.note)}" if version.note else ""
    if not app.interactive:
        raise UsageError(f"{name} is suspect{why}; nothing was written", hint="--suspect, if it is wanted all the same")
    click.echo(f"{name} is suspect{why}")
    click.confirm("Restore it all the same?", abort=True)
