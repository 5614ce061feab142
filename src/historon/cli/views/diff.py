"""`historon diff`: what it shows."""

import sys
from datetime import tzinfo

from historon.api import Difference, Side
from historon.base.errors import UsageError
from historon.cli.differences import print_lines, print_outline, print_side_by_side
from historon.cli.output import columns_wide, console, count, instant
from historon.cli.styled import Text
from historon.compare import unified

__all__ = ["headline", "print_changes", "print_page", "print_patch"]

_NARROW = 100  # columns from which on two texts have room beside each other


def headline(found: Difference) -> str:
    """What differs, in one line."""
    if not found.parts:
        return f"no difference between {found.before.name} and {found.after.name}"
    return f"{count(len(found.parts), 'part')} of {found.before.name} and {found.after.name} differ"


def print_patch(found: Difference, context: int, zone: tzinfo) -> None:
    """The change as a patch."""
    for change in found.parts:
        old_label = _label(found.before, change.was or change.name, zone)
        sys.stdout.buffer.writelines(unified(change, old_label, _label(found.after, change.name, zone), context))
    sys.stdout.buffer.flush()


def _label(side: Side, part: str, zone: tzinfo) -> str:
    return f"{side.name}/{part}\t{side.at.astimezone(zone):%Y-%m-%d %H:%M:%S %z}"


def print_page(found: Difference, context: int, zone: tzinfo) -> None:
    """The change as a page."""
    from historon.report import difference_page

    sides = [f"{side.name}, {instant(side.at, zone, named=True)}" for side in (found.before, found.after)]
    title = f"{found.before.name} and {found.after.name}"
    sys.stdout.buffer.write(difference_page(title, sides, found.parts, context).encode("utf-8", "backslashreplace"))
    sys.stdout.buffer.flush()


def print_changes(found: Difference, form: str | None, context: int, zone: tzinfo) -> None:
    """The change in the form that was asked for."""
    screen = console()
    width = columns_wide()
    if form == "side" and width is not None and width < _NARROW:
        raise UsageError(
            f"{width} columns are too narrow for two texts",
            hint=f"use at least {_NARROW} columns, or --form lines",
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
        screen.print(headline(found))
