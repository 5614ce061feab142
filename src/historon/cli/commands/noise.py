"""`historon noise`."""

from collections.abc import Sequence

import click

from historon.base.errors import UsageError
from historon.cli.app import App, estate_option, example, json_option, pass_app, where_option
from historon.cli.output import count, print_json
from historon.cli.views import noise as view
from historon.estate import Estate, add_rules
from historon.insight import Proposal

__all__ = ["command"]


@click.command(
    "noise",
    epilog=example(
        "historon noise edge-1",
        "historon noise edge-1 --take 1,3",
        "historon noise --where role=edge",
        "historon noise edge-1 --take 4 --because 'leases are looked after elsewhere'",
    ),
)
@click.argument("source", required=False)
@click.option("--take", metavar="NUMBERS", help="Write these proposals into the estate file: 1,3 or all.")
@click.option("--because", metavar="REASON", help="Reason why real changes may be hidden; written beside the mask.")
@where_option
@estate_option
@json_option
@pass_app
def command(
    app: App,
    source: str | None,
    *,
    take: str | None,
    because: str | None,
    where: tuple[str, ...],
    estate_file: str | None,
    as_json: bool,
) -> None:
    """Propose masks for lines that change in nearly every version.

    Each proposal shows its evidence, and the real changes that it would have hidden. A proposal that hides real changes
    needs a reason, and "all" never includes it. Masks that you take are added to the source's procedure, so they apply
    to every source of that procedure. Stored versions stay unchanged; comparisons ignore the noise from then on. With
    --where: propose masks for several sources, one after the other.
    """
    if source is None:
        if not where or take is not None:
            raise UsageError(
                "name a source; to list the proposals of several, give --where", hint="historon noise edge-1"
            )
        _list(app, where, estate_file, as_json=as_json)
        return
    with app.opened(estate_file) as opened:
        studied = opened.source(source).noise()
    found, in_force = studied.proposals, studied.in_force
    headline = view.headline(source, studied.versions, found, in_force)
    if as_json:
        print_json("noise", headline, [view.as_data(source, one) for one in found], masks_in_force=in_force)
        return
    click.echo(headline)
    if not found:
        if take not in (None, "none", "all"):
            raise UsageError(f"there is no proposal {take}", hint=f"historon noise {source}")
        return
    view.print_all(found, take)
    if take is None and app.interactive:
        take = click.prompt(
            "Which proposals shall be written into the estate file? Numbers such as 1,3, all or none", default="none"
        )
    chosen = _chosen(found, take)
    hiding = [number for number, one in enumerate(found, 1) if one in chosen and one.hides]
    if hiding:
        because = because or _asked(app, hiding)
    if chosen:
        _write(opened.described, opened.described.sources[source].procedure, chosen, because or "")
    elif take is None:
        click.echo(f"to write them into the estate file: historon noise {source} --take all")


def _list(app: App, where: Sequence[str], estate_file: str | None, *, as_json: bool) -> None:
    """The proposals for several sources."""
    with app.opened(estate_file) as opened:
        studied = {one.name: one.noise() for one in opened.sources(where=where)}
    found = sum(len(one.proposals) for one in studied.values())
    headline = f"{count(found, 'proposal')} for {count(len(studied), 'source')}"
    if as_json:
        rows = [view.as_data(name, row) for name, one in studied.items() for row in one.proposals]
        print_json("noise", headline, rows, masks_in_force=sum(one.in_force for one in studied.values()))
        return
    click.echo(headline)
    for name, one in studied.items():
        click.echo("\n" + view.headline(name, one.versions, one.proposals, one.in_force))
        view.print_all(one.proposals, "none")
    if found:
        click.echo("\nto write them into the estate file: historon noise SOURCE --take all")


def _asked(app: App, hiding: Sequence[int]) -> str:
    """The reason for hiding what is real; UsageError where nobody gives one."""
    numbers = ", ".join(map(str, hiding))
    if app.interactive and (
        reason := click.prompt(f"Why may {numbers} hide real changes too? (leave empty to omit it)", default="")
    ):
        return str(reason)
    raise UsageError(
        f"proposal {numbers} would hide real changes too; nothing was written",
        hint="give a reason with --because, or omit it from --take",
    )


def _chosen(found: Sequence[Proposal], take: str | None) -> list[Proposal]:
    if take in (None, "none", ""):
        return []
    if take == "all":
        return [one for one in found if not one.hides]
    numbers = str(take).replace(" ", "").split(",")
    wrong = [one for one in numbers if not one.isdecimal() or not 1 <= int(one) <= len(found)]
    if wrong:
        raise UsageError(f'there is no proposal "{wrong[0]}"', hint=f"proposals are 1 to {len(found)}, or all")
    return [found[int(one) - 1] for one in dict.fromkeys(numbers)]


def _write(estate: Estate, procedure: str, chosen: Sequence[Proposal], because: str) -> None:
    file = add_rules(estate, procedure, [(one.setting, one.rule) for one in chosen if not one.hides])
    file = add_rules(estate, procedure, [(one.setting, one.rule) for one in chosen if one.hides], because) or file
    click.echo(f"{count(len(chosen), 'mask')} added to the procedure {procedure} in {file}")
