"""`historon restore`."""

import os
import sys
from collections.abc import Sequence
from pathlib import Path

import click

from historon.api import Estate, Version
from historon.base.errors import OutsideError, UsageError
from historon.cli.app import App, estate_option, example, json_option, pass_app, where_option
from historon.cli.output import count, print_json, printable
from historon.cli.views import restore as view
from historon.restore import Naming

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
@click.option("--at", metavar="WHEN", help="Restore each source's last good version as of WHEN.")
@click.option(
    "--to",
    "folder",
    metavar="DIR",
    type=click.Path(file_okay=False, path_type=Path),
    help="Folder to write to; created if missing. Several sources get one subfolder each.",
)
@click.option("--tar", metavar="FILE", help="Write a tar file instead; - is standard output.")
@click.option(
    "--over-originals",
    is_flag=True,
    help="Restore files of this machine to their original paths; shows the changes first.",
)
@click.option(
    "--only",
    metavar="PATH",
    multiple=True,
    help="Restore only this part, folder of parts, parts by a pattern, or path of the outline; repeatable.",
)
@click.option("--missing", is_flag=True, help="Restore only missing files; change no others.")
@click.option("--date-in-names", is_flag=True, help="Add the version's instant to the name of each file.")
@click.option("--overwrite", is_flag=True, help="Replace existing files.")
@click.option("--permissions", is_flag=True, help="Restore the permissions and owners of a tree's files.")
@click.option("--outward-links", is_flag=True, help="Restore links that lead out of the folder too.")
@click.option("--suspect", is_flag=True, help="Restore a suspect version without asking.")
@click.option("--yes", is_flag=True, help="With --over-originals: restore without asking.")
@estate_option
@json_option
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
    as_json: bool,
) -> None:
    """Restore versions, or parts of them, to files.

    Writes to a folder, a tar, or the original paths of this machine. Files are the same to the byte as when they were
    collected, and checked against their SHA-256. They contain secrets, so files and folders are readable by you only.
    Files of a tree get their times and links back. --permissions restores permissions (and owners, as root); others may
    then be able to read the files. A suspect version needs a confirmation, or --suspect.
    """
    _check_options(folder, tar, over_originals, dated=date_in_names, missing=missing, overwrite=overwrite)
    _check_json(folder, as_json=as_json)
    with app.opened(estate_file) as opened:
        found = _chosen(opened, versions, where, at)
        for one in found:
            if not one.good and not suspect:
                _confirm_suspect(app, one)
        if tar is not None:
            _write_tar(opened, found, tar, only, dated=date_in_names)
            return
        if folder is None:
            for one in found:
                _restore_originals(app, opened, one, only, missing=missing, yes=yes)
            return
        shown = []
        for one in found:
            below = one.source if len(found) > 1 else ""
            restored = one.restore(
                folder,
                only=only,
                overwrite=overwrite,
                missing=missing,
                permissions=permissions,
                outward_links=outward_links,
                naming=Naming(at=one.at if date_in_names else None, below=below),
            )
            shown.append((one, restored))
            if not as_json:
                view.print_restored(opened, one, restored, "with their original permissions" if permissions else "")
    if as_json:
        rows = [view.row(one, restored) for one, restored in shown]
        print_json("restore", f"{count(len(found), 'version')} restored", rows)


def _check_options(
    folder: Path | None, tar: str | None, over_originals: bool, *, dated: bool, missing: bool, overwrite: bool
) -> None:
    if [folder is not None, tar is not None, over_originals].count(True) != 1:
        raise UsageError("no destination is given", hint="add --to DIR, --tar FILE or --over-originals")
    if over_originals and dated:
        raise UsageError("files at their original paths have no instant in their names", hint="omit --date-in-names")
    if missing and (tar is not None or overwrite):
        raise UsageError("--missing replaces no file", hint="omit --overwrite; a tar always has all files")


def _check_json(folder: Path | None, *, as_json: bool) -> None:
    if as_json and folder is None:
        raise UsageError("--json describes files of a folder", hint="add --to DIR")


def _chosen(opened: Estate, versions: Sequence[str], where: Sequence[str], at: str | None) -> list[Version]:
    """The versions that are meant. UsageError when there is none of a source, or none is named."""
    if not versions and not where and at is None:
        raise UsageError("no source is named", hint="historon restore SOURCE")
    if any("@" in one for one in versions) and at is not None:
        raise UsageError("SOURCE@WHEN and --at both give a time", hint="omit one of them")
    if versions and not where:
        return [opened.version(f"{one}@{at}" if at is not None else one) for one in versions]
    found = []
    for source in opened.select(*versions, where=where):
        name = f"{source.name}@{at}" if at is not None else source.name
        try:
            found.append(opened.version(name))
        except UsageError as exc:
            click.echo(f"{source.name}: left out: {printable(exc.message)}", err=True)
    if not found:
        raise UsageError("none of these sources had a version then", hint="historon versions SOURCE")
    return found


def _write_tar(opened: Estate, found: Sequence[Version], tar: str, only: Sequence[str], *, dated: bool) -> None:
    if tar == "-":
        if sys.stdout.isatty():
            raise UsageError("a terminal cannot show a tar", hint="write it with --tar FILE, or pipe it")
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
            raise OutsideError(f"{tar} already exists; nothing was written", hint="give another name") from exc
        except OSError as exc:
            raise OutsideError(f"{tar}: {exc.strerror}", hint="check the free space and the permissions") from exc
    told = f"{count(number, 'file')} of {count(len(found), 'version')} written, readable by you only"
    click.echo(f"{tar}: {told}" if tar != "-" else told, err=tar == "-")


def _private(path: str, flags: int) -> int:
    return os.open(path, flags, 0o600)


def _restore_originals(
    app: App, opened: Estate, version: Version, only: Sequence[str], *, missing: bool, yes: bool
) -> None:
    """Show what is missing or differs, and restore exactly that when it is confirmed."""
    state = version.plan_originals(only=only, missing=missing)
    name = str(version)
    for stranger in state.strangers[: view.LISTED]:
        click.echo(f"not in this version, kept as it is: {printable(str(stranger))}")
    if len(state.strangers) > view.LISTED:
        click.echo(f"not in this version, kept as they are: {len(state.strangers) - view.LISTED} more")
    if not state.differing:
        there = "there" if missing else "identical"
        click.echo(f"{name}: nothing to restore: {count(state.same, 'file')} are already {there}")
        return
    click.echo(f"{name} differs from the files at their original paths:")
    view.print_differing(opened, version, state)
    if not yes:
        if not app.interactive:
            raise UsageError("nothing was changed: this is the plan", hint="add --yes to carry it out")
        click.confirm(f"Restore {count(len(state.differing), 'file')} to the original paths?", abort=True)
        if version.plan_originals(only=only, missing=missing).differing != state.differing:
            raise OutsideError(
                "files changed since the plan was shown; nothing was written", hint="run the command again"
            )
    restored = version.restore_originals(state)
    click.echo("\nrestored:")
    view.print_restored(opened, version, restored, "with their owners, permissions and times, as far as they are known")


def _confirm_suspect(app: App, version: Version) -> None:
    name = f"{version.source}@{version.number}"
    why = f": {printable(version.note)}" if version.note else ""
    if not app.interactive:
        raise UsageError(f"{name} is suspect{why}; nothing was written", hint="add --suspect to restore it anyway")
    click.echo(f"{name} is suspect{why}")
    click.confirm("Restore it anyway?", abort=True)
