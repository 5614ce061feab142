"""`historon noise`: what it shows."""

from collections.abc import Sequence

from historon.cli.output import console, count, printable
from historon.cli.styled import Text
from historon.insight import Hidden, Proposal

__all__ = ["as_data", "headline", "print_all"]

_SHOWN = 5  # changes that a mask would have hidden
_FEWEST = 4  # versions by which it can be known what changes by itself


def headline(source: str, versions: int, found: Sequence[Proposal], in_force: int) -> str:
    """How many proposals there are, in one line."""
    masks = f"{count(in_force, 'mask')} in force"
    looked = f"in {count(versions, 'good version')} of {source}"
    if versions < _FEWEST:
        return f"too early: {source} has {count(versions, 'good version')}, noise needs {_FEWEST} ({masks})"
    if found:
        return f"{count(len(found), 'proposal')} {looked} ({masks})"
    return f"no further noise found {looked} ({masks})"


def print_all(found: Sequence[Proposal], take: str | None) -> None:
    """Each proposal with what speaks for it."""
    screen = console()
    for number, one in enumerate(found, 1):
        screen.print(
            Text.assemble((f"{number:>3}  ", "bold"), (_called(one), "dim"), (printable(one.rule), "cyan")),
            soft_wrap=True,
        )
        evidence = f"     differed in {len(one.seen_in)} of {count(one.steps, 'step')} from version to version"
        screen.print(Text(f"{evidence}, in {one.alone} of them nothing else changed", style=""))
        last = f"     last in {printable(one.part)}: {printable(one.old)} → {printable(one.new)}"
        screen.print(Text(last, style="dim"), soft_wrap=True)
        _print_hidden(one.hides)
    if take is None:
        screen.print()


def _called(one: Proposal) -> str:
    return "order ignored under " if one.setting == "unordered" else ""


def _print_hidden(hides: Sequence[Hidden]) -> None:
    """What else a mask would have hidden."""
    if not hides:
        return
    screen = console()
    versions = len({one.version for one in hides})
    told = f"     would also have hidden {count(len(hides), 'real change')}, in {count(versions, 'version')}:"
    screen.print(Text(told, style="bold yellow"))
    for one in hides[-_SHOWN:]:
        sides = " → ".join(filter(None, (printable(one.old), printable(one.new))))
        edited = one.old and one.new
        came_or_went = "- " if one.old else "+ "
        sign = "" if edited else came_or_went
        screen.print(Text(f"       @{one.version:<5} {sign}{sides}", style="yellow"), soft_wrap=True)
    if len(hides) > _SHOWN:
        screen.print(Text(f"       {len(hides) - _SHOWN} earlier ones (--json lists all)", style="yellow"))


def as_data(source: str, one: Proposal) -> dict[str, object]:
    """A proposal, for programs."""
    return {
        "source": source,
        "setting": one.setting,
        "rule": one.rule,
        "part": one.part,
        "differed": len(one.seen_in),
        "steps": one.steps,
        "alone": one.alone,
        "old": one.old,
        "new": one.new,
        "hides": [{"version": hidden.version, "old": hidden.old, "new": hidden.new} for hidden in one.hides],
    }
