"""`historon diff`."""

import sys
from collections.abc import Sequence
from datetime import tzinfo

import click

from historon.cli.app import App, estate_option, example, pass_app
from historon.cli.output import console, instant, printable
from historon.cli.viewing import masks_for
from historon.compare import PartChange, comparable, compare_exports, hunks, unified
from historon.errors import ExitCode, UsageError
from historon.estate import Estate
from historon.store import Reference, State, Store, Version, resolve

__all__ = ["command"]


@click.command(
    "diff",
    epilog=example(
        "historon diff edge-1",
        "historon diff edge-1@3d",
        "historon diff edge-1@17 edge-1@21",
        "historon diff edge-1 edge-2",
    ),
)
@click.argument("old", metavar="A")
@click.argument("new", metavar="[B]", required=False)
@click.option("--part", help="Only this part.")
@click.option("-C", "--context", default=3, show_default=True, type=click.IntRange(0), help="Lines around each change.")
@click.option("--with-noise", is_flag=True, help="Compare masked noise too.")
@click.option("--reveal", is_flag=True, help="Show secrets; needed for a diff that is to be applied where they differ.")
@estate_option
@pass_app
def command(
    app: App, old: str, new: str | None, part: str | None, context: int, *, with_noise: bool, reveal: bool,
    estate_file: str | None,
) -> int:  # fmt: skip
    """What changed between two versions, or two sources.

    A and B are SOURCE or SOURCE@WHEN. With a bare SOURCE alone: its last change. With SOURCE@WHEN alone: from then to
    its latest. Piped, it is a unified diff that `patch` applies; noise is left out and secrets are masked. The exit
    code is 1 when they differ, 0 when not.
    """
    estate = app.estate(estate_file)
    with app.store(estate) as store:
        before, after = _versions(app, estate, store, Reference.parse(old), Reference.parse(new) if new else None)
        masks = masks_for(estate, store, after.source, reveal=reveal, with_noise=with_noise)
        changes = compare_exports(_contents(store, before, part), _contents(store, after, part), masks)
    if sys.stdout.isatty():
        _print_changes(before, after, changes, context, estate.zone)
    else:
        for change in changes:
            old_label, new_label = (_label(version, change.name, estate.zone) for version in (before, after))
            sys.stdout.buffer.writelines(unified(change, old_label, new_label, context))
        sys.stdout.buffer.flush()
    return ExitCode.FOUND if changes else ExitCode.WELL


def _versions(app: App, estate: Estate, store: Store, old: Reference, new: Reference | None) -> tuple[Version, Version]:
    now, zone = app.clock(), estate.zone
    if new:
        return resolve(store, old, now=now, zone=zone), resolve(store, new, now=now, zone=zone)
    latest = resolve(store, Reference(old.source), now=now, zone=zone)
    if old.when:
        return resolve(store, old, now=now, zone=zone), latest
    good = [version for version in store.versions(old.source) if version.good]
    last = max((at for at, version in enumerate(good) if version.state is State.GOOD), default=0)
    if last == 0:
        raise UsageError(
            f"{old.source} has not changed since its first version", hint=f"historon versions {old.source}"
        )
    return good[last - 1], good[last]


def _contents(store: Store, version: Version, only: str | None) -> dict[str, bytes]:
    parts = store.parts(version.source, version.number)
    if only is not None and only not in {part.name for part in parts}:
        raise UsageError(f'{version.source}@{version.number} has no part "{only}"', hint="historon show lists them")
    return {part.name: comparable(part, store) for part in parts if only in (None, part.name)}


def _label(version: Version, part: str, zone: tzinfo) -> str:
    return f"{version.source}@{version.number}/{part}\t{version.at.astimezone(zone):%Y-%m-%d %H:%M:%S %z}"


def _print_changes(before: Version, after: Version, changes: Sequence[PartChange], context: int, zone: tzinfo) -> None:
    from rich.text import Text

    screen = console()
    for mark, version in (("-", before), ("+", after)):
        when = instant(version.at, zone)
        screen.print(Text(f"{mark} {version.source}@{version.number}  {when}", style="red" if mark == "-" else "green"))
    screen.print()
    for change in changes:
        head = Text(printable(change.name), style="bold")
        head.append(f"  {change.kind}" if change.kind != "edited" else "", style="yellow")
        head.append(f"  +{change.added} -{change.removed}", style="dim")
        screen.print(head)
        for hunk in hunks(change, context):
            title = printable(hunk.heading.decode("utf-8", "replace"))
            unchanged = next((at for at, row in enumerate(hunk.rows) if row.mark != " "), 0)
            line_number = max(hunk.old_start, 1) + unchanged
            screen.print(Text.assemble((f"  line {line_number}", "dim"), ("  " + title, "cyan bold")))
            for row in hunk.rows:
                line = printable(row.line.decode("utf-8", "backslashreplace").rstrip("\n"))
                style = {"-": "red", "+": "green"}.get(row.mark, "")
                screen.print(Text(f"  {row.mark} {line}", style=style, no_wrap=True), soft_wrap=True)
            screen.print()
    if not changes:
        screen.print("no difference")
