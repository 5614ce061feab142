"""`historon diff`."""

import sys
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import UTC, datetime, tzinfo
from pathlib import Path

import click

from historon.cli.app import (
    App,
    estate_option,
    example,
    json_option,
    pass_app,
    reveal_option,
    where_option,
)
from historon.cli.differences import part_data, print_lines, print_outline, print_side_by_side
from historon.cli.output import console, count, instant, print_json, warn_if_suspect
from historon.cli.viewing import masks_for
from historon.compare import PartChange, Weights, compare_exports, contents_of, is_called, unified
from historon.errors import ExitCode, OutsideError, UsageError
from historon.estate import Estate, select
from historon.store import State, Store, Version

__all__ = ["command"]

_FILE = "file:"
_FORMS = ("lines", "side", "outline", "html")
_NARROW = 100  # columns from which on two texts have room beside each other


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
        "historon diff edge-1@3d --form outline",
        "historon diff edge-1@17 edge-1@21 --only 'access-list outside'",
        "historon diff edge-1 edge-2 --form html > page.html",
        "historon diff file:golden.cfg edge-1",
        "historon diff --where role=edge",
    ),
)
@click.argument("old", metavar="[A]", required=False)
@click.argument("new", metavar="[B]", required=False)
@where_option
@click.option(
    "--form", type=click.Choice(_FORMS), help="How it is shown; if not said, lines, and documents as outline."
)
@click.option("--only", metavar="TEXT", help="Only this part, or what stands under this path of the outline.")
@click.option("-C", "--context", default=3, show_default=True, type=click.IntRange(0), help="Lines around each change.")
@click.option("--ignore-case", is_flag=True, help="Take capital and small letters as the same.")
@click.option("--ignore-space", is_flag=True, help="Take any white space as the same.")
@click.option("--with-noise", is_flag=True, help="Compare masked noise too.")
@reveal_option
@estate_option
@json_option
@pass_app
def command(
    app: App, old: str | None, new: str | None, where: tuple[str, ...], form: str | None, only: str | None,
    context: int, *, ignore_case: bool, ignore_space: bool, with_noise: bool, reveal: bool,
    estate_file: str | None, as_json: bool,
) -> int:  # fmt: skip
    """What changed between two versions, or two sources.

    A and B are SOURCE or SOURCE@WHEN, and one of them may be file:PATH. With a bare SOURCE alone: its last change.
    With SOURCE@WHEN alone: from then to its latest. With --where alone: the sources that are not as most of them are.
    Piped, it is a unified diff that `patch` applies; noise is left out and secrets are masked. The exit code is 1 when
    they differ, 0 when not.
    """
    estate = app.estate(estate_file)
    if where:
        if old is not None:
            raise UsageError("--where compares sources with each other", hint="give either A and B, or --where")
        from historon.cli.typical import print_typical

        with app.store(estate) as store:
            return print_typical(estate, store, select(estate, (), where), as_json=as_json)
    if old is None:
        raise UsageError("nothing to compare", hint="historon diff SOURCE, or historon diff --where label=value")
    with app.store(estate) as store:
        source, before, after = _sides(app, estate, store, old, new, only)
        masks = masks_for(
            estate, store, source, reveal=reveal, with_noise=with_noise, ignore_case=ignore_case,
            ignore_space=ignore_space,
        )  # fmt: skip
        weights = Weights(estate.weights)
        changes = compare_exports(before.contents, after.contents, masks)
        if only is not None:
            changes = _narrowed(changes, only, [before, after])
    if as_json:
        rows = [part_data(change, context, weights) for change in changes]
        print_json("diff", _headline(before, after, changes), rows, old=before.name, new=after.name)
    elif form == "html":
        _print_page(before, after, changes, context, estate.zone)
    elif form or sys.stdout.isatty():
        _print_changes(before, after, changes, form, context, estate.zone, weights)
    else:
        for change in changes:
            old_label = _label(before, change.was or change.name, estate.zone)
            sys.stdout.buffer.writelines(unified(change, old_label, _label(after, change.name, estate.zone), context))
        sys.stdout.buffer.flush()
    return ExitCode.FOUND if changes else ExitCode.WELL


def _sides(
    app: App, estate: Estate, store: Store, old: str, new: str | None, only: str | None
) -> tuple[str, _Side, _Side]:
    """The source whose masks hold, and what is compared."""
    written = [one for one in (old, new) if one is not None]
    plain = [one for one in written if one.startswith(_FILE)]
    if not plain:
        versions = _versions(app, estate, store, old, new)
        for version in versions:
            warn_if_suspect(version)
        before, after = (
            _Side(f"{v.source}@{v.number}", v.at, contents_of(store, v.source, v.number)) for v in versions
        )
        return versions[1].source, before, after
    if len(plain) == len(written):
        raise UsageError("one side must be a source", hint="historon diff file:golden.cfg edge-1")
    named = next(one for one in written if not one.startswith(_FILE))
    version = app.version(estate, store, named)
    warn_if_suspect(version)
    contents = contents_of(store, version.source, version.number)
    told = [name for name in contents if name == only] or [name for name in contents if not name.endswith(".tree")]
    if len(told) != 1:
        listed = ", ".join(told[:8])
        raise UsageError(f"{named} has {len(told)} parts; which is it?", hint=f"--only, one of: {listed}")
    stored = _Side(f"{version.source}@{version.number}", version.at, {told[0]: contents[told[0]]})
    file = _file_side(Path(plain[0].removeprefix(_FILE)), told[0])
    return version.source, *((file, stored) if old.startswith(_FILE) else (stored, file))


def _file_side(path: Path, part: str) -> _Side:
    try:
        at = datetime.fromtimestamp(path.stat().st_mtime, UTC)
        return _Side(str(path), at, {part: path.read_bytes()})
    except OSError as exc:
        raise OutsideError(f"{path}: {exc.strerror}", hint="is the path right?") from exc


def _versions(app: App, estate: Estate, store: Store, old: str, new: str | None) -> tuple[Version, Version]:
    if new:
        return app.version(estate, store, old), app.version(estate, store, new)
    source, at, _ = old.partition("@")
    first = app.version(estate, store, old)
    if at:
        return first, app.version(estate, store, source)
    good = [version for version in store.versions(source) if version.good]
    last = max((at for at, version in enumerate(good) if version.state is State.GOOD), default=0)
    if last == 0:
        raise UsageError(
            f"{source} has no change on record since its first version", hint=f"historon versions {source}"
        )
    return good[last - 1], good[last]


def _narrowed(changes: list[PartChange], only: str, sides: Sequence[_Side]) -> list[PartChange]:
    """The parts of this name, or in this folder; else what stands under this path. UsageError when there is no such."""
    contents = {name: content for side in sides for name, content in side.contents.items()}
    if any(is_called(name, only) for name in (*contents, *(change.name for change in changes))):
        return [change for change in changes if is_called(change.name, only)]
    texts = b"\n".join(contents.values()).lower()
    if not all(step.strip().encode() in texts for step in only.lower().split(" / ")):
        raise UsageError(
            f'neither a part nor a path is "{only}"', hint="--form outline shows the paths of what changed"
        )
    return [kept for change in changes if (kept := change.only(only))]


def _headline(before: _Side, after: _Side, changes: Sequence[PartChange]) -> str:
    if not changes:
        return f"no difference between {before.name} and {after.name}"
    return f"{count(len(changes), 'part')} of {before.name} and {after.name} differ"


def _label(side: _Side, part: str, zone: tzinfo) -> str:
    return f"{side.name}/{part}\t{side.at.astimezone(zone):%Y-%m-%d %H:%M:%S %z}"


def _print_page(before: _Side, after: _Side, changes: Sequence[PartChange], context: int, zone: tzinfo) -> None:
    from historon.report import difference_page

    sides = [f"{side.name}, {instant(side.at, zone, named=True)}" for side in (before, after)]
    title = f"{before.name} and {after.name}"
    sys.stdout.buffer.write(difference_page(title, sides, changes, context).encode("utf-8", "backslashreplace"))
    sys.stdout.buffer.flush()


def _print_changes(
    before: _Side, after: _Side, changes: Sequence[PartChange], form: str | None, context: int, zone: tzinfo,
    weights: Weights,
) -> None:  # fmt: skip
    from rich.text import Text

    screen = console()
    if form == "side" and screen.width < _NARROW:
        raise UsageError(
            f"{screen.width} columns are too few for two texts", hint=f"widen to {_NARROW}, or --form lines"
        )
    for mark, side in (("-", before), ("+", after)):
        screen.print(
            Text(f"{mark} {side.name}  {instant(side.at, zone, named=True)}", style="red" if mark == "-" else "green")
        )
    screen.print()
    for change in changes:
        told_by_lines = change.edits and not change.structured
        if form == "outline" or (form is None and not told_by_lines):
            print_outline(change, weights)
        elif form == "side":
            print_side_by_side(change, context, weights)
        else:
            print_lines(change, context, weights)
    if not changes:
        screen.print(_headline(before, after, changes))
