"""`historon restore`: what it shows."""

import click

from historon.api import Historon
from historon.cli.output import count, instant, printable, size_text
from historon.compare import compare_exports, unified
from historon.restore import OriginalState, Restored
from historon.store import Version
from historon.versions import is_binary

__all__ = ["LISTED", "print_differing", "print_restored"]

LISTED = 20  # files; of more, so many are named
_LINES = 60  # of a diff


def print_differing(opened: Historon, version: Version, state: OriginalState) -> None:
    """The files that would become others."""
    masks = opened.masks(version.source, with_noise=True)
    shown = 0
    for one in state.differing[:LISTED]:
        what = "is missing" if one.missing else "differs"
        click.echo(f"{printable(str(one.file))} {what}, {size_text(one.part.size)} then")
        then = opened.store.read(one.part) if one.now is not None and one.part.size <= 2**20 else None
        if one.now is None or then is None or is_binary(one.now) or is_binary(then) or shown > _LINES:
            continue
        for change in compare_exports({one.part.name: one.now}, {one.part.name: then}, masks):
            for line in b"".join(unified(change, "now", "then")).splitlines():
                shown += 1
                if shown <= _LINES:
                    click.echo(f"  {printable(line.decode('utf-8', 'replace'))}")
    if shown > _LINES:
        click.echo("  and more lines, which are not shown")
    if len(state.differing) > LISTED:
        click.echo(f"and {len(state.differing) - LISTED} more files")


def print_restored(opened: Historon, found: Version, restored: Restored, how: str) -> None:
    """What was written, and what was left out."""
    files = restored.files
    for file, size in files[:LISTED]:
        click.echo(f"{printable(str(file))}  {size_text(size)}")
    if len(files) > LISTED:
        rest = sum(size for _, size in files[LISTED:])
        click.echo(f"and {len(files) - LISTED} more, {size_text(rest)}")
    for why in restored.left_out:
        click.echo(f"left out: {printable(why)}")
    name = f"{found.source}@{found.number}"
    made = f"{'good' if found.good else 'SUSPECT'}, from {instant(found.at, opened.estate.zone, named=True)}"
    readable = how or "readable by you alone"
    written = (
        f"{count(len(files), 'file')} written, {readable}" if files or not restored.already else "nothing to write"
    )
    there = f"; {count(len(restored.already), 'file')} there already, byte for byte" if restored.already else ""
    click.echo(f"{name} ({made}): {written}{there}")
