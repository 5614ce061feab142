"""`historon copies`."""

import click

from historon.api import Historon
from historon.api.copying import known_copies
from historon.cli.app import App, estate_option, example, json_option, pass_app
from historon.cli.output import count, print_json, printable, size_text
from historon.cli.views import copies as view
from historon.errors import ExitCode, HistoronError, UsageError

__all__ = ["command"]

_SAMPLE = 200
_SHOWN = 10  # parts that were left out


@click.command(
    "copies", epilog=example("historon copies", "historon copies --update", "historon copies saltgate --verify")
)
@click.argument("names", nargs=-1, metavar="[COPY]...")
@click.option("--update", is_flag=True, help="Bring them up to date.")
@click.option(
    "--verify",
    "verifying",
    is_flag=False,
    flag_value="sample",
    type=click.Choice(("sample", "all")),
    help=f"Read {_SAMPLE} versions or contents in them, whichever, and verify them; with all, every one.",
)
@estate_option
@json_option
@pass_app
def command(
    app: App, names: tuple[str, ...], *, update: bool, verifying: str | None, estate_file: str | None, as_json: bool
) -> int:
    """Second places that hold the versions too.

    A copy is a whole store, of which an estate can be made should this machine die (historon new --from-copy); or
    plain files; or a git repository. The service brings copies up to date by itself. A store that knows versions
    which the store here does not is never replaced. The exit code is 1 when something has been missing in a copy for
    longer than its max_lag, 5 when one is damaged or could not be brought up to date.
    """
    with app.opened(estate_file) as opened:
        estate = opened.estate
        chosen = known_copies(estate, *names)
        if not chosen and (update or verifying):
            what = "update" if update else "verify"
            raise UsageError(f"there is no copy to {what}", hint="write one in [copies] of the estate file")
        updated = [_update(opened, name) for name in chosen if update]
        statuses = opened.copies(*names)
        sample = _SAMPLE if verifying == "sample" else None
        verified = [_verify(opened, name, sample) for name in chosen if verifying]
    wrong = not all([*updated, *verified])
    now = app.clock()
    if as_json:
        print_json("copies", view.headline(statuses, now), [view.row(one, now) for one in statuses])
    elif not update and not verifying:
        view.print_all(statuses, estate, now)
    if wrong:
        return ExitCode.STORE
    if any(one.overdue(now) or one.left_out for one in statuses):
        return ExitCode.FOUND
    return ExitCode.WELL


def _update(opened: Historon, name: str) -> bool:
    try:
        copied = opened.update_copy(name)
    except HistoronError as exc:
        click.echo(f"{name}: {printable(str(exc))}", err=True)
        return False
    what = f"{count(copied.versions, 'version')} of {count(copied.sources, 'source')}"
    but = f", but for {count(len(copied.left_out), 'part')}" if copied.left_out else ""
    click.echo(f"{name}: up to date{but}: {what}, {size_text(copied.size)}", err=True)
    for one in copied.left_out[:_SHOWN]:
        click.echo(f"{name}: left out: {printable(one)}", err=True)
    if len(copied.left_out) > _SHOWN:
        click.echo(f"{name}: left out: and {len(copied.left_out) - _SHOWN} more", err=True)
    if copied.left:
        click.echo(f"{name}: {count(copied.left, 'object')} that nothing needs any more could not be removed", err=True)
    return True


def _verify(opened: Historon, name: str, sample: int | None) -> bool:
    try:
        found = opened.verify_copy(name, sample=sample)
    except HistoronError as exc:
        click.echo(f"{name}: {printable(str(exc))}", err=True)
        return False
    for one in [*found.ledger, *map(str, found.damages)]:
        click.echo(f"{name}: {printable(one)}", err=True)
    if found.sample_of is not None:
        read = f"a sample was read, of {found.sample_of:,}"
        verdict = "that is as written, the rest is unknown" if found.well else "DAMAGED"
    else:
        read = f"{count(found.versions, 'version')} of {count(found.sources, 'source')} read"
        verdict = "all of it as written" if found.well else "DAMAGED"
    click.echo(f"{name}: {read}: {verdict}", err=True)
    return found.well
