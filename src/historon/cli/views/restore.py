"""`historon restore`: what it shows."""

import click

from historon.api import Estate
from historon.base.quantities import size_text
from historon.cli.output import count, instant, printable
from historon.compare import compare_exports, unified
from historon.restore import Original, OriginalState, Restored
from historon.store import Version
from historon.versions import is_binary

__all__ = ["LISTED", "print_differing", "print_restored", "row"]

LISTED = 20  # files; of more, so many are named
_LINES = 60  # of a diff
_LARGEST = 2**20  # bytes of a text of which lines are shown


def print_differing(opened: Estate, version: Version, state: OriginalState) -> None:
    """What would change, and what differs about it."""
    shown = 0
    for one in state.differing[:LISTED]:
        size = f" ({size_text(one.part.size)} in this version)" if one.part is not None else ""
        click.echo(f"{printable(str(one.file))}{size}: {printable('; '.join(one.how))}")
        if shown <= _LINES:
            shown += _print_lines(opened, version, one, _LINES - shown)
    if shown > _LINES:
        click.echo("  more lines are not shown")
    if len(state.differing) > LISTED:
        click.echo(f"{len(state.differing) - LISTED} more files")
    for why in state.unheld[:LISTED]:
        click.echo(f"lost by restoring: {printable(why)}")
    if len(state.unheld) > LISTED:
        click.echo(f"lost by restoring: {len(state.unheld) - LISTED} more")
    if version.note:
        click.echo(f"about this version: {printable(version.note)}")


def _print_lines(opened: Estate, version: Version, one: Original, room: int) -> int:
    """Show at most so many lines that differ in a text; returns how many there are."""
    if one.part is None or one.now is None or one.part.size > _LARGEST:
        return 0
    then = opened.store.read(one.part)
    if is_binary(one.now) or is_binary(then):
        return 0
    masks = opened.masks(version.source, with_noise=True)
    changes = compare_exports({one.part.name: one.now}, {one.part.name: then}, masks)
    lines = [line for change in changes for line in b"".join(unified(change, "now", "then")).splitlines()]
    for line in lines[:room]:
        click.echo(f"  {printable(line.decode('utf-8', 'replace'))}")
    return len(lines)


def print_restored(opened: Estate, found: Version, restored: Restored, how: str) -> None:
    """What was written, and what was left out."""
    files = restored.files
    for file, size in files[:LISTED]:
        click.echo(f"{printable(str(file))}  {size_text(size)}")
    if len(files) > LISTED:
        rest = sum(size for _, size in files[LISTED:])
        click.echo(f"{len(files) - LISTED} more, {size_text(rest)}")
    for why in restored.left_out:
        click.echo(f"left out: {printable(why)}")
    name = f"{found.source}@{found.number}"
    made = f"{'good' if found.good else 'SUSPECT'}, from {instant(found.at, opened.zone, named=True)}"
    readable = how or "readable by you only"
    written = (
        f"{count(len(files), 'file')} written, {readable}" if files or not restored.already else "nothing to write"
    )
    there = f"; {count(len(restored.already), 'file')} already identical" if restored.already else ""
    click.echo(f"{name} ({made}): {written}{there}")


def row(found: Version, restored: Restored) -> dict[str, object]:
    """What was written of a version, for programs."""
    return {
        "source": found.source,
        "version": found.number,
        "at": found.at,
        "state": found.state,
        "files": [{"file": str(file), "size_bytes": size} for file, size in restored.files],
        "already_identical": [str(one) for one in restored.already],
        "left_out": list(restored.left_out),
    }
