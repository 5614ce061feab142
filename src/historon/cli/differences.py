"""The forms in which a difference is shown: lines, line beside line, outline, and data for programs."""

from collections.abc import Sequence

from historon.cli.output import columns_wide, console, printable
from historon.cli.styled import Text
from historon.compare import Change, Hunk, Marked, PartChange, Span, edited_words, folded, hunks, marked, side_by_side
from historon.insight import Weights

__all__ = ["change_data", "change_text", "part_data", "print_lines", "print_outline", "print_side_by_side"]

_STYLES = {"added": "green", "removed": "red", "edited": "", "moved": "yellow", "unresolved": "bold red"}
_LONGEST = 240


def part_data(change: PartChange, context: int, weights: Weights) -> dict[str, object]:
    """One part, for programs."""
    return {
        "part": change.name,
        "was": change.was,
        "kind": change.kind,
        "added": change.added,
        "removed": change.removed,
        "changes": [change_data(one, weights) for one in change.changes],
        "hunks": [
            {
                "old_start": hunk.old_start,
                "new_start": hunk.new_start,
                "path": _path(hunk),
                "lines": [row.mark + row.line.decode("utf-8", "replace").rstrip("\n") for row in hunk.rows],
            }
            for hunk in hunks(change, context)
        ],
    }


def change_data(change: Change, weights: Weights | None = None) -> dict[str, object]:
    """One change, for programs, with what it weighs."""
    weight = weights.of(change) if weights else None
    return {
        "how": change.how,
        "path": change.path,
        "old": change.old,
        "new": change.new,
        "old_at": change.old_at,
        "new_at": change.new_at,
        "lines_under": change.more,
        "used_by": change.used_by,
        "moved_from_to": change.ranks,
        **({"weight": weight.number, "why": weight.why or None} if weight else {}),
    }


def change_text(change: Change, weights: Weights) -> Text:
    """One change on one line: its sign, its path, what became of it, and why that is grave."""
    made = Text(f"{change.sign} ", style=_STYLES[change.how])
    if change.path:
        made.append(printable(change.path), "cyan").append("  ")
    warning = weights.of(change).warning
    if warning:
        made.append(f"({printable(warning)})", "bold red").append("  ")  # first, as what follows may be long
    if change.how == "edited" and change.old and change.new:
        old, new = _cut(change.old), _cut(change.new)
        gone, came = edited_words(old, new)
        made.append(_with_words(old, gone, "red")).append(" → ", "dim").append(_with_words(new, came, "green"))
    else:
        made.append(_cut(change.words), _STYLES[change.how])
    if change.used_by:
        made.append(f"  {printable(change.uses)}", "dim")
    return made


def _with_words(text: str, spans: Sequence[Span], style: str) -> Text:
    """A value, with the words marked that differ."""
    made = Text(text, style=style)
    for start, end in spans:
        made.stylize("bold underline", start, end)
    return made


def _cut(text: str) -> str:
    shown = printable(text)
    return shown if len(shown) <= _LONGEST else shown[: _LONGEST - 1] + "…"


def print_outline(change: PartChange, weights: Weights) -> None:
    """Each change under its path."""
    screen = console()
    screen.print(_title(change))
    width = len(str(max((one.new_at or one.old_at or 0 for one in change.changes), default=0)))
    for one, more in folded(change.changes):
        at = one.new_at or one.old_at
        screen.print(
            "  ", Text(f"{at or '':>{width}}  " if width > 1 else "", "dim"), change_text(one, weights), sep=""
        )
        if more:
            screen.print(
                Text(f"  {'':>{width}}  … and {more:,} more like these, at other places (--json lists them)", "dim")
            )
    screen.print()


def print_lines(change: PartChange, context: int, weights: Weights) -> None:
    """The lines that came and went, with the words marked that differ."""
    screen = console()
    screen.print(_title(change))
    for hunk in hunks(change, context):
        unchanged = next((at for at, row in enumerate(hunk.rows) if row.mark != " "), 0)
        number = max(hunk.old_start, 1) + unchanged
        screen.print(Text.assemble((f"  line {number}", "dim"), ("  " + printable(_path(hunk)), "cyan bold")))
        for row in marked(hunk, printable):
            style = {"-": "red", "+": "green"}.get(row.mark, "")
            screen.print(_marked(row, style, f"  {row.mark} "), soft_wrap=True)
        screen.print()
    _print_besides(change, weights)


def print_side_by_side(change: PartChange, context: int, weights: Weights) -> None:
    """Before on the left, after on the right: over the whole screen, or as wide as the text where it is piped."""
    from rich.table import Table

    screen = console()
    width = columns_wide()
    fills = width is not None
    screen.print(_title(change))
    for hunk in hunks(change, context):
        if hunk.path:
            screen.print(Text("  " + printable(_path(hunk)), style="cyan bold"))
        made = Table(box=None, show_header=False, expand=fills, width=width, pad_edge=False, padding=(0, 2, 0, 0))
        for _ in range(4):
            made.add_column(overflow="fold")
        for column, ratio in zip(made.columns, (None, 1, None, 1), strict=True):
            column.ratio, column.no_wrap = ratio if fills else None, ratio is None
            column.justify = "right" if ratio is None else "left"
            column.style = "dim" if ratio is None else ""
        for old, new in side_by_side(marked(hunk, printable, change)):
            made.add_row(*_cell(old, "red"), *_cell(new, "green"))
        screen.print(made)
        screen.print()
    _print_besides(change, weights)


def _cell(row: Marked | None, style: str) -> tuple[str, Text | str]:
    if row is None:
        return "", ""
    if row.mark == " ":
        style = "dim" if row.noise else ""
    return str(row.number), _marked(row, style)


def _marked(row: Marked, style: str, before: str = "") -> Text:
    text = Text(before + row.text, style=style)
    for start, end in row.spans:
        text.stylize("bold underline", start + len(before), end + len(before))
    return text


def _print_besides(change: PartChange, weights: Weights) -> None:
    """What lines alone do not tell: that some of them only moved, and what leads nowhere now."""
    told = ("moved", "unresolved") if not change.structured else ()
    moves: Sequence[Change] = [one for one in change.changes if one.how in told]
    for one in moves:
        console().print("  ", change_text(one, weights), sep="")
    if moves:
        console().print()


def _title(change: PartChange) -> Text:
    title = Text(printable(change.name), style="bold")
    if change.was:
        title.append(f"  was {printable(change.was)}", "yellow")
    elif change.kind != "edited":
        title.append(f"  {change.kind}", "yellow")
    return title.append(f"  +{change.added} -{change.removed}", "dim")


def _path(hunk: Hunk) -> str:
    return " / ".join(heading.decode("utf-8", "replace") for heading in hunk.path)
