"""`historon diff`."""

import sys
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from datetime import UTC, datetime, tzinfo
from pathlib import Path
from typing import TYPE_CHECKING

import click

from historon.cli.app import App, estate_option, example, json_option, pass_app
from historon.cli.output import console, instant, print_json, printable
from historon.cli.viewing import masks_for
from historon.compare import Hunk, PartChange, comparable, compare_exports, edited_words, hunks, paired, unified
from historon.errors import ExitCode, OutsideError, UsageError
from historon.estate import Estate
from historon.store import Reference, State, Store, Version, resolve

if TYPE_CHECKING:
    from rich.text import Text

__all__ = ["command"]

_FILE = "file:"


@dataclass(frozen=True)
class _Side:
    """One side of a comparison: a version, or a plain file."""

    name: str
    at: datetime
    contents: dict[str, bytes]


@click.command(
    "diff",
    epilog=example(
        "historon diff edge-1",
        "historon diff edge-1@3d",
        "historon diff edge-1@17 edge-1@21",
        "historon diff edge-1 edge-2",
        "historon diff file:golden.cfg edge-1",
    ),
)
@click.argument("old", metavar="A")
@click.argument("new", metavar="[B]", required=False)
@click.option("--part", help="Only this part.")
@click.option("-C", "--context", default=3, show_default=True, type=click.IntRange(0), help="Lines around each change.")
@click.option("--ignore-case", is_flag=True, help="Take capital and small letters as the same.")
@click.option("--ignore-space", is_flag=True, help="Take any white space as the same.")
@click.option("--with-noise", is_flag=True, help="Compare masked noise too.")
@click.option("--reveal", is_flag=True, help="Show secrets; needed for a diff that is to be applied where they differ.")
@estate_option
@json_option
@pass_app
def command(
    app: App, old: str, new: str | None, part: str | None, context: int, *, ignore_case: bool, ignore_space: bool,
    with_noise: bool, reveal: bool, estate_file: str | None, as_json: bool,
) -> int:  # fmt: skip
    """What changed between two versions, or two sources.

    A and B are SOURCE or SOURCE@WHEN, and one of them may be file:PATH. With a bare SOURCE alone: its last change. With
    SOURCE@WHEN alone: from then to its latest. Piped, it is a unified diff that `patch` applies; noise is left out and
    secrets are masked. The exit code is 1 when they differ, 0 when not.
    """
    estate = app.estate(estate_file)
    with app.store(estate) as store:
        source, before, after = _sides(app, estate, store, old, new, part)
        masks = masks_for(
            estate, store, source, reveal=reveal, with_noise=with_noise, ignore_case=ignore_case,
            ignore_space=ignore_space,
        )  # fmt: skip
        changes = compare_exports(before.contents, after.contents, masks)
    if as_json:
        print_json(_as_data(before, after, changes, context))
    elif sys.stdout.isatty():
        _print_changes(before, after, changes, context, estate.zone)
    else:
        for change in changes:
            old_label, new_label = (_label(side, change.name, estate.zone) for side in (before, after))
            sys.stdout.buffer.writelines(unified(change, old_label, new_label, context))
        sys.stdout.buffer.flush()
    return ExitCode.FOUND if changes else ExitCode.WELL


def _sides(
    app: App, estate: Estate, store: Store, old: str, new: str | None, part: str | None
) -> tuple[str, _Side, _Side]:
    """The source whose masks hold, and what is compared."""
    written = [one for one in (old, new) if one is not None]
    plain = [one for one in written if one.startswith(_FILE)]
    if not plain:
        versions = _versions(app, estate, store, Reference.parse(old), Reference.parse(new) if new else None)
        before, after = (_Side(f"{v.source}@{v.number}", v.at, _contents(store, v, part)) for v in versions)
        return versions[1].source, before, after
    if len(plain) == len(written):
        raise UsageError("one side must be a source", hint="historon diff file:golden.cfg edge-1")
    named = next(one for one in written if not one.startswith(_FILE))
    version = resolve(store, Reference.parse(named), now=app.clock(), zone=estate.zone)
    contents = _contents(store, version, part)
    told = [name for name in contents if not name.endswith(".tree")]
    if len(told) != 1:
        listed = ", ".join(told[:8])
        raise UsageError(f"{named} has {len(told)} parts; which is it?", hint=f"--part, one of: {listed}")
    stored = _Side(f"{version.source}@{version.number}", version.at, {told[0]: contents[told[0]]})
    file = _file_side(Path(plain[0].removeprefix(_FILE)), told[0])
    return version.source, *((file, stored) if old.startswith(_FILE) else (stored, file))


def _file_side(path: Path, part: str) -> _Side:
    try:
        at = datetime.fromtimestamp(path.stat().st_mtime, UTC)
        return _Side(str(path), at, {part: path.read_bytes()})
    except OSError as exc:
        raise OutsideError(f"{path}: {exc.strerror}", hint="is the path right?") from exc


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


def _label(side: _Side, part: str, zone: tzinfo) -> str:
    return f"{side.name}/{part}\t{side.at.astimezone(zone):%Y-%m-%d %H:%M:%S %z}"


def _as_data(before: _Side, after: _Side, changes: Sequence[PartChange], context: int) -> dict[str, object]:
    return {
        "old": before.name, "new": after.name,
        "parts": [
            {
                "part": change.name, "kind": change.kind, "added": change.added, "removed": change.removed,
                "hunks": [
                    {
                        "old_start": hunk.old_start, "new_start": hunk.new_start,
                        "heading": b" / ".join(hunk.path).decode("utf-8", "replace"),
                        "lines": [row.mark + row.line.decode("utf-8", "replace").rstrip("\n") for row in hunk.rows],
                    }
                    for hunk in hunks(change, context)
                ],
            }
            for change in changes
        ],
    }  # fmt: skip


def _print_changes(before: _Side, after: _Side, changes: Sequence[PartChange], context: int, zone: tzinfo) -> None:
    from rich.text import Text

    screen = console()
    for mark, side in (("-", before), ("+", after)):
        when = instant(side.at, zone)
        screen.print(Text(f"{mark} {side.name}  {when}", style="red" if mark == "-" else "green"))
    screen.print()
    for change in changes:
        head = Text(printable(change.name), style="bold")
        head.append(f"  {change.kind}" if change.kind != "edited" else "", style="yellow")
        head.append(f"  +{change.added} -{change.removed}", style="dim")
        screen.print(head)
        for hunk in hunks(change, context):
            title = printable(b" / ".join(hunk.path).decode("utf-8", "replace"))
            unchanged = next((at for at, row in enumerate(hunk.rows) if row.mark != " "), 0)
            line_number = max(hunk.old_start, 1) + unchanged
            screen.print(Text.assemble((f"  line {line_number}", "dim"), ("  " + title, "cyan bold")))
            for line in _lines(hunk):
                screen.print(line, soft_wrap=True)
            screen.print()
    if not changes:
        screen.print("no difference")


def _lines(hunk: Hunk) -> "Iterator[Text]":
    """The rows of a hunk, with the words marked that differ inside an edited line."""
    from rich.text import Text

    shown = [printable(row.line.decode("utf-8", "backslashreplace").rstrip("\n")) for row in hunk.rows]
    marked: dict[int, Sequence[tuple[int, int]]] = {}
    for removed, added in _blocks(hunk):
        for one, other in paired([shown[at] for at in removed], [shown[at] for at in added]):
            marked[removed[one]], marked[added[other]] = edited_words(shown[removed[one]], shown[added[other]])
    for at, row in enumerate(hunk.rows):
        style = {"-": "red", "+": "green"}.get(row.mark, "")
        line = Text(f"  {row.mark} {shown[at]}", style=style, no_wrap=True)
        for start, end in marked.get(at, ()):
            line.stylize("bold underline", start + 4, end + 4)
        yield line


def _blocks(hunk: Hunk) -> Iterator[tuple[list[int], list[int]]]:
    """Rows that were removed, each time with those that came in their place."""
    removed: list[int] = []
    added: list[int] = []
    for at, row in enumerate(hunk.rows):
        if row.mark != "+" and added:
            yield removed, added
            removed, added = [], []
        if row.mark == "-":
            removed.append(at)
        elif row.mark == "+":
            added.append(at)
        else:
            removed = []
    if added:
        yield removed, added
