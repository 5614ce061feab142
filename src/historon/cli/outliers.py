"""`historon diff --where`: which of many sources are not as most of them are."""

from historon.base.errors import ExitCode
from historon.cli.output import console, count, print_json, printable
from historon.cli.styled import Text
from historon.insight import Oddity, Typical

__all__ = ["print_typical"]

_SHOWN = 12  # oddities of one source


def print_typical(found: Typical, *, as_json: bool) -> int:
    """Show how sources differ from what most of them have; the exit code says whether any does."""
    if as_json:
        print_json("diff-where", _headline(found), _as_data(found), typical=found.source)
    else:
        _print(found)
    return ExitCode.FOUND if any(found.oddities.values()) else ExitCode.WELL


def _headline(found: Typical) -> str:
    odd = sum(bool(oddities) for oddities in found.oddities.values())
    total = count(len(found.oddities), "source")
    return f"{odd} of {total} differ from the majority; the most typical is {found.source}"


def _as_data(found: Typical) -> list[dict[str, object]]:
    return [
        {
            "source": source,
            "oddities": [
                {"part": one.part, "path": one.path, "own": one.own, "usual": one.usual, "others": one.others}
                for one in oddities
            ],
        }
        for source, oddities in found.oddities.items()
    ]


def _print(found: Typical) -> None:
    screen = console()
    others = len(found.oddities) - 1
    odd = sorted(found.oddities, key=lambda source: (-len(found.oddities[source]), source))
    screen.print(Text(printable(_headline(found)), "bold"), soft_wrap=True)
    for source in odd:
        oddities = found.oddities[source]
        if not oddities:
            continue
        screen.print()
        screen.print(
            Text.assemble(
                (printable(source), "bold"),
                (f"  {count(len(oddities), 'difference')}", "yellow"),
            )
        )
        for one in sorted(oddities, key=_rank)[:_SHOWN]:
            screen.print(_line(one, others))
        if len(oddities) > _SHOWN:
            more = len(oddities) - _SHOWN
            screen.print(Text(f"  {more} more: historon diff {found.source} {source}", style="dim"))
    alike = sum(not oddities for oddities in found.oddities.values())
    screen.print()
    screen.print(f"{count(alike, 'source')} without a difference" if alike else "each has its own differences")


def _rank(one: Oddity) -> tuple[int, int]:
    """What only this one has comes first, then what it alone lacks."""
    return (0, one.others) if one.own else (1, -one.others)


def _line(one: Oddity, others: int) -> Text:
    sign, style = ("+", "green") if one.own else ("-", "red")
    if one.own and one.usual:
        sign, style = "~", ""
    line = Text(f"  {sign} ", style=style)
    if one.path:
        line.append(printable(one.path), "cyan").append("  ")
    if one.usual:
        line.append(printable(one.usual), "red").append(" → " if one.own else "", "dim")
    line.append(printable(one.own), "green")
    who = "alone" if one.own and not one.others else f"{one.others} of {count(others, 'other')}"
    return line.append(f"  {who}", "dim")
