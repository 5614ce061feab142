"""`historon noise`."""

from collections.abc import Sequence

import click

from historon.cli.app import App, estate_option, example, json_option, pass_app
from historon.cli.output import console, count, print_json, printable
from historon.errors import UsageError
from historon.estate import Estate, add_rules
from historon.insight import Hidden, Proposal

__all__ = ["command"]

_SHOWN = 5  # changes that a mask would have hidden
_FEWEST = 4  # versions by which it can be told what changes by itself


@click.command(
    "noise",
    epilog=example(
        "historon noise edge-1",
        "historon noise edge-1 --take 1,3",
        "historon noise edge-1 --take all",
        "historon noise edge-1 --take 4 --because 'leases are looked after elsewhere'",
    ),
)
@click.argument("source")
@click.option("--take", metavar="NUMBERS", help="Write these proposals into the estate file: 1,3 or all.")
@click.option("--because", metavar="REASON", help="Why real changes may be hidden; it is written beside the mask.")
@estate_option
@json_option
@pass_app
def command(
    app: App, source: str, *, take: str | None, because: str | None, estate_file: str | None, as_json: bool
) -> None:
    """What differs in nearly every version of a source: proposes masks.

    Each proposal comes with what the history shows for it, and with the real changes that it would have hidden besides;
    one that would have hidden any is taken only with a reason, and never by "all". Those that you take are written into
    the procedure of the source, so that they hold for every source that is asked in the same way. Versions stay as they
    are stored; the next comparisons leave the noise out.
    """
    with app.opened(estate_file) as opened:
        studied = opened.noise(source)
    found, in_force = studied.proposals, studied.in_force
    headline = _headline(source, studied.versions, found, in_force)
    if as_json:
        print_json("noise", headline, [_as_data(one) for one in found], masks_in_force=in_force)
        return
    click.echo(headline)
    if not found:
        return
    _print(found, take)
    if take is None and app.interactive:
        take = click.prompt("Write which into the estate file? Numbers such as 1,3, all or none", default="none")
    chosen = _chosen(found, take)
    hiding = [number for number, one in enumerate(found, 1) if one in chosen and one.hides]
    if hiding:
        because = because or _asked(app, hiding)
    if chosen:
        _write(opened.estate, opened.estate.sources[source].procedure, chosen, because or "")
    elif take is None:
        click.echo(f"to write them into the estate file: historon noise {source} --take all")


def _headline(source: str, versions: int, found: Sequence[Proposal], in_force: int) -> str:
    masks = f"{count(in_force, 'mask')} in force"
    looked = f"in {count(versions, 'good version')} of {source}"
    if versions < _FEWEST:
        return f"cannot tell yet {looked}: it takes {_FEWEST} ({masks})"
    if found:
        return f"{count(len(found), 'proposal')} {looked} ({masks})"
    return f"no further noise found {looked} ({masks})"


def _print(found: Sequence[Proposal], take: str | None) -> None:
    from rich.text import Text

    screen = console()
    for number, one in enumerate(found, 1):
        screen.print(
            Text.assemble((f"{number:>3}  ", "bold"), (_called(one), "dim"), (printable(one.rule), "cyan")),
            soft_wrap=True,
        )
        evidence = f"     differed in {len(one.seen_in)} of {count(one.steps, 'step')} from version to version"
        screen.print(Text(f"{evidence}, in {one.alone} of them nothing else did", style=""))
        last = f"     last in {printable(one.part)}: {printable(one.old)} → {printable(one.new)}"
        screen.print(Text(last, style="dim"), soft_wrap=True)
        _print_hidden(one.hides)
    if take is None:
        screen.print()


def _called(one: Proposal) -> str:
    return "order means nothing under " if one.setting == "unordered" else ""


def _print_hidden(hides: Sequence[Hidden]) -> None:
    """What else a mask would have hidden."""
    from rich.text import Text

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
        screen.print(Text(f"       and {len(hides) - _SHOWN} before (--json names them all)", style="yellow"))


def _asked(app: App, hiding: Sequence[int]) -> str:
    """The reason for hiding what is real; UsageError where nobody gives one."""
    numbers = ", ".join(map(str, hiding))
    if app.interactive and (
        reason := click.prompt(f"Why may {numbers} hide real changes too? (empty to leave it)", default="")
    ):
        return str(reason)
    raise UsageError(
        f"proposal {numbers} would hide real changes too; nothing was written",
        hint="say why that may be, with --because, or leave it out of --take",
    )


def _chosen(found: Sequence[Proposal], take: str | None) -> list[Proposal]:
    if take in (None, "none", ""):
        return []
    if take == "all":
        return [one for one in found if not one.hides]
    numbers = str(take).replace(" ", "").split(",")
    wrong = [one for one in numbers if not one.isdecimal() or not 1 <= int(one) <= len(found)]
    if wrong:
        raise UsageError(f'there is no proposal "{wrong[0]}"', hint=f"1 to {len(found)}, or all")
    return [found[int(one) - 1] for one in dict.fromkeys(numbers)]


def _write(estate: Estate, procedure: str, chosen: Sequence[Proposal], because: str) -> None:
    file = add_rules(estate, procedure, [(one.setting, one.rule) for one in chosen if not one.hides])
    file = add_rules(estate, procedure, [(one.setting, one.rule) for one in chosen if one.hides], because) or file
    click.echo(f"{count(len(chosen), 'mask')} added to the procedure {procedure} in {file}")


def _as_data(one: Proposal) -> dict[str, object]:
    return {
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
