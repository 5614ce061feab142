"""`historon find`: what it shows."""

from collections.abc import Mapping, Sequence
from datetime import tzinfo
from itertools import groupby

from historon.cli.output import console, count, instant, printable
from historon.cli.styled import Text
from historon.insight import Hit

__all__ = ["as_data", "beside", "headline", "print_all"]

_LONGEST = 200


def beside(closed: Mapping[tuple[str, str], str]) -> list[dict[str, str]]:
    """What was not looked into."""
    return [{"source": source, "part": part, "why": why} for (source, part), why in sorted(closed.items())]


def print_all(
    found: Sequence[Hit], zone: tzinfo, *, ever: bool, oldest: Mapping[str, int | None] | None = None
) -> None:
    """Each line under its path; `oldest` are the oldest versions kept of sources of which earlier ones were removed."""
    screen = console()
    if found:
        zoned = f" (instants are in {zone})" if ever else ""
        screen.print(Text(f"   line  path and text{zoned}", style="dim"), soft_wrap=True)
    for (source, part), hits in groupby(found, key=lambda hit: (hit.source, hit.part)):
        screen.print(Text.assemble((printable(source), "bold"), (f"  {printable(part)}", "dim")))
        for hit in hits:
            line = Text(f"  {hit.number:>5}  ", style="dim")
            if hit.path:
                line.append(printable(hit.path), "cyan").append("  ")
            gone = hit.gone is not None
            line.append(_cut(printable(hit.line)), "dim" if gone else "not dim")
            if ever and hit.came:
                already = (oldest or {}).get(source) == hit.came.number
                came = f"@{hit.came.number}, the oldest version"
                since = (
                    f"  already there in {came}"
                    if already
                    else f"  since {instant(hit.came.at, zone)} @{hit.came.number}"
                )
                line.append(since, "dim")
                line.append(f", removed {instant(hit.gone.at, zone)} @{hit.gone.number}" if hit.gone else "", "yellow")
            screen.print(line, soft_wrap=True)


def _cut(text: str) -> str:
    return text if len(text) <= _LONGEST else text[: _LONGEST - 1] + "…"


def headline(found: Sequence[Hit], sources: int, text: str, closed: Mapping[tuple[str, str], str]) -> str:
    """What was found where, in one line."""
    if not found:
        but = f"; {count(len(closed), 'part')} could not be searched" if closed else ""
        return f'"{text}" is in none of {count(sources, "source")}{but}'
    having = len({hit.source for hit in found})
    return f'"{text}": {count(len(found), "line")} in {having} of {count(sources, "source")}'


def as_data(hit: Hit, *, ever: bool, oldest: Mapping[str, int | None] | None = None) -> dict[str, object]:
    """A line that was found, for programs."""
    life = {
        "beginning_known": hit.came is not None and (oldest or {}).get(hit.source) != hit.came.number,
        "added_in": hit.came and {"version": hit.came.number, "at": hit.came.at},
        "removed_in": hit.gone and {"version": hit.gone.number, "at": hit.gone.at},
    }
    return {
        "source": hit.source,
        "part": hit.part,
        "line_number": hit.number,
        "path": hit.path,
        "line": hit.line,
        **(life if ever else {}),
    }
