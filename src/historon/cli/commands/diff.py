"""`historon diff`."""

import sys
from datetime import tzinfo

import click

from historon.api import Difference, Side
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
from historon.cli.outliers import print_typical
from historon.cli.output import console, count, instant, print_json, warn_if_suspect
from historon.compare import unified
from historon.errors import ExitCode, UsageError

__all__ = ["command"]

_FORMS = ("lines", "side", "outline", "html")
_NARROW = 100  # columns from which on two texts have room beside each other


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
    app: App,
    old: str | None,
    new: str | None,
    where: tuple[str, ...],
    form: str | None,
    only: str | None,
    context: int,
    *,
    ignore_case: bool,
    ignore_space: bool,
    with_noise: bool,
    reveal: bool,
    estate_file: str | None,
    as_json: bool,
) -> int:
    """What changed between two versions, or two sources.

    A and B are SOURCE or SOURCE@WHEN, and one of them may be file:PATH. With a bare SOURCE alone: its last change.
    With SOURCE@WHEN alone: from then to its latest. With --where alone: the sources that are not as most of them are.
    Piped, it is a unified diff that `patch` applies; noise is left out and secrets are masked. The exit code is 1 when
    they differ, 0 when not.
    """
    if where:
        if old is not None:
            raise UsageError("--where compares sources with each other", hint="give either A and B, or --where")
        with app.opened(estate_file) as opened:
            return print_typical(opened.typical(where=where), as_json=as_json)
    if old is None:
        raise UsageError("nothing to compare", hint="historon diff SOURCE, or historon diff --where label=value")
    with app.opened(estate_file) as opened:
        found = opened.diff(
            old,
            new,
            only=only,
            reveal=reveal,
            with_noise=with_noise,
            ignore_case=ignore_case,
            ignore_space=ignore_space,
        )
    for side in (found.before, found.after):
        if side.version is not None:
            warn_if_suspect(side.version)
    zone = opened.estate.zone
    if as_json:
        rows = [part_data(change, context, found.weights) for change in found.parts]
        print_json("diff", _headline(found), rows, old=found.before.name, new=found.after.name)
    elif form == "html":
        _print_page(found, context, zone)
    elif form or sys.stdout.isatty():
        _print_changes(found, form, context, zone)
    else:
        _print_patch(found, context, zone)
    return ExitCode.FOUND if found.parts else ExitCode.WELL


def _headline(found: Difference) -> str:
    if not found.parts:
        return f"no difference between {found.before.name} and {found.after.name}"
    return f"{count(len(found.parts), 'part')} of {found.before.name} and {found.after.name} differ"


def _print_patch(found: Difference, context: int, zone: tzinfo) -> None:
    for change in found.parts:
        old_label = _label(found.before, change.was or change.name, zone)
        sys.stdout.buffer.writelines(unified(change, old_label, _label(found.after, change.name, zone), context))
    sys.stdout.buffer.flush()


def _label(side: Side, part: str, zone: tzinfo) -> str:
    return f"{side.name}/{part}\t{side.at.astimezone(zone):%Y-%m-%d %H:%M:%S %z}"


def _print_page(found: Difference, context: int, zone: tzinfo) -> None:
    from historon.report import difference_page

    sides = [f"{side.name}, {instant(side.at, zone, named=True)}" for side in (found.before, found.after)]
    title = f"{found.before.name} and {found.after.name}"
    sys.stdout.buffer.write(difference_page(title, sides, found.parts, context).encode("utf-8", "backslashreplace"))
    sys.stdout.buffer.flush()


def _print_changes(found: Difference, form: str | None, context: int, zone: tzinfo) -> None:
    from rich.text import Text

    screen = console()
    if form == "side" and screen.width < _NARROW:
        raise UsageError(
            f"{screen.width} columns are too few for two texts", hint=f"widen to {_NARROW}, or --form lines"
        )
    for mark, side in (("-", found.before), ("+", found.after)):
        screen.print(
            Text(f"{mark} {side.name}  {instant(side.at, zone, named=True)}", style="red" if mark == "-" else "green")
        )
    screen.print()
    for change in found.parts:
        told_by_lines = change.edits and not change.structured
        if form == "outline" or (form is None and not told_by_lines):
            print_outline(change, found.weights)
        elif form == "side":
            print_side_by_side(change, context, found.weights)
        else:
            print_lines(change, context, found.weights)
    if not found.parts:
        screen.print(_headline(found))
