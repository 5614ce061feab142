"""How things look on a screen, and how the same things are given to a program."""

import re
import sys
from collections.abc import Iterable, Sequence
from datetime import UTC, datetime, timedelta, tzinfo
from typing import TYPE_CHECKING, Any

import msgspec

from historon.estate import describe

if TYPE_CHECKING:
    from rich.console import Console
    from rich.table import Table

    from historon.collect import Failure

__all__ = [
    "STYLES",
    "console",
    "count",
    "excerpt",
    "instant",
    "print_failure",
    "print_json",
    "print_table",
    "printable",
    "since",
    "size_text",
    "table",
]

STYLES = {
    "first": "cyan", "changed": "cyan", "unchanged": "dim", "suspect": "yellow", "failed": "bold red", "skipped": "dim",
    "kept": "green", "close": "yellow", "broken": "bold red", "never": "bold red", "paused": "dim", "no promise": "dim",
    "good": "", "noise": "dim",
}  # fmt: skip

_TAIL_LINES = 4
_EXCERPT_LINES, _EXCERPT_WIDTH = 3, 160

# What a terminal would act on, or what would deceive the eye: control characters (ECMA-48), and Unicode's
# direction marks and invisible characters (UAX 9).
_HOSTILE = re.compile("[\x00-\x08\x0b-\x1f\x7f-\x9f\u200b-\u200f\u2028-\u202e\u2060-\u2069\ufeff\ud800-\udfff]")


def printable(text: str) -> str:
    r"""The text with everything that a terminal would act on written out, such as `\x1b`."""
    return _HOSTILE.sub(lambda match: match[0].encode("unicode_escape").decode(), text)


def console(*, stderr: bool = False) -> "Console":
    """Where tables and colours go; piped, there is no colour and nothing is cut off."""
    from rich.console import Console

    made = Console(stderr=stderr, highlight=False, markup=False, emoji=False)
    if not made.is_terminal:
        made = Console(stderr=stderr, highlight=False, markup=False, emoji=False, width=1000, no_color=True)
    return made


def table(*columns: str, right: Iterable[str] = (), wrap: Iterable[str] = ("note",)) -> "Table":
    """A table with these headings, those named in `right` flush right; on a narrow terminal those in `wrap` break."""
    from rich.table import Table

    made = Table(box=None, pad_edge=False, header_style="dim", padding=(0, 2, 0, 0))
    for column in columns:
        made.add_column(
            column, justify="right" if column in right else "left", no_wrap=column not in wrap, overflow="fold"
        )
    return made


def print_table(made: "Table") -> None:
    """The table without the blanks that fill its lines."""
    screen = console()
    if screen.is_terminal:
        screen.print(made)
        return
    with screen.capture() as caught:
        screen.print(made)
    sys.stdout.write("".join(line.rstrip() + "\n" for line in caught.get().splitlines()))


def print_json(data: Any) -> None:
    """One JSON document: instants in UTC (RFC 3339), spans in seconds."""
    encoded = msgspec.json.encode(_plain(data))
    sys.stdout.write(msgspec.json.format(encoded, indent=2).decode() + "\n")


def _plain(data: Any) -> Any:
    if isinstance(data, dict):
        return {key: _plain(value) for key, value in data.items()}
    if isinstance(data, str):
        return str(data)  # msgspec knows no kinds of text of our own
    if isinstance(data, Sequence):
        return [_plain(value) for value in data]
    if isinstance(data, datetime):
        return data.astimezone(UTC).isoformat(timespec="milliseconds").replace("+00:00", "Z")
    if isinstance(data, timedelta):
        return round(data.total_seconds(), 3)
    return data


def print_failure(screen: "Console", source: str, failure: "Failure") -> None:
    """Why a source failed: where, what, what came back last, and what to try."""
    from rich.text import Text

    screen.print(Text(f"{source}: failed", style=STYLES["failed"]))
    if failure.step:
        screen.print(Text(f"  where    {printable(failure.step)}"))
    screen.print(Text(f"  what     {printable(failure.message)}"))
    for line in failure.tail.splitlines()[-_TAIL_LINES:]:
        screen.print(Text(f"           | {printable(line)[:200]}", style="dim"))
    screen.print(Text(f"  try      {printable(failure.hint)}"))


def excerpt(answer: bytes) -> list[str]:
    """How the answer begins and ends: enough to see whether it is the right one, and whole."""
    lines = [printable(line)[:_EXCERPT_WIDTH] for line in answer.decode("utf-8", "replace").splitlines()]
    if len(lines) <= 2 * _EXCERPT_LINES + 1:
        return lines
    return [*lines[:_EXCERPT_LINES], f"… {len(lines) - 2 * _EXCERPT_LINES} lines …", *lines[-_EXCERPT_LINES:]]


def instant(at: datetime | None, zone: tzinfo, *, seconds: bool = False) -> str:
    """An instant in the estate's own time zone."""
    return f"{at.astimezone(zone):%Y-%m-%d %H:%M{':%S' if seconds else ''}}" if at else "-"


def since(span: timedelta | None) -> str:
    """How long ago; `-` for never."""
    return "-" if span is None else "just now" if span < timedelta(seconds=2) else f"{describe(span)} ago"


def size_text(count_of_bytes: float) -> str:
    """A size with three digits or so: `812 B`, `53.2 kB`, `1.4 MB`."""
    for unit in ("B", "kB", "MB", "GB"):
        if count_of_bytes < 1000 or unit == "GB":
            return (
                f"{count_of_bytes:.0f} {unit}"
                if unit == "B" or count_of_bytes >= 100
                else f"{count_of_bytes:.1f} {unit}"
            )
        count_of_bytes /= 1000
    raise AssertionError("unreachable")


def count(number: int, thing: str, things: str = "") -> str:
    """`1 source`, `3 sources`; `things` where an s does not do."""
    return f"{number:,} {thing if number == 1 else things or thing + 's'}"
