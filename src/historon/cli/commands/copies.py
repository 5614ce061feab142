"""`historon copies`."""

from collections.abc import Sequence
from contextlib import closing
from datetime import datetime

import click

from historon.cli.app import App, estate_option, example, json_option, pass_app
from historon.cli.output import count, instant, print_json, print_table, printable, size_text, table
from historon.copies import CopyStatus, bring_up_to_date, copies_of, note_copied
from historon.errors import ExitCode, HistoronError, UsageError
from historon.estate import Estate, describe, nearest
from historon.store import FolderStore, Store, audit

__all__ = ["command"]


@click.command("copies", epilog=example("historon copies", "historon copies --update", "historon copies vault --check"))
@click.argument("names", nargs=-1, metavar="[COPY]...")
@click.option("--update", is_flag=True, help="Bring them up to date.")
@click.option("--check", is_flag=True, help="Read every version in them, and verify it.")
@estate_option
@json_option
@pass_app
def command(
    app: App, names: tuple[str, ...], *, update: bool, check: bool, estate_file: str | None, as_json: bool
) -> int:
    """Second places that hold the versions too.

    A copy is a whole store: should this machine die, an estate file on another one names it as its store. The service
    brings copies up to date by itself. One that knows versions which the store does not is never replaced. The exit
    code is 1 when something has been missing in a copy for longer than promised, 5 when one is damaged or could not be
    brought up to date.
    """
    estate = app.estate(estate_file)
    for name in names:
        if name not in estate.copies:
            hint = nearest(name, estate.copies) or "write one in [copies] of the estate file"
            raise UsageError(f'there is no copy "{name}"', hint=hint)
    chosen = list(names or estate.copies)
    wrong = False
    with app.store(estate) as store:
        for name in chosen if update else ():
            wrong = not _update(app, estate, store, name) or wrong
        statuses = [one for one in copies_of(estate, store) if one.name in chosen]
    for name in chosen if check else ():
        wrong = not _check(estate, name) or wrong
    now = app.clock()
    if as_json:
        print_json([_row(one, now) for one in statuses])
    elif not update and not check:
        _print(statuses, estate, now)
    if wrong:
        return ExitCode.STORE
    return ExitCode.FOUND if any(one.broken(now) for one in statuses) else ExitCode.WELL


def _update(app: App, estate: Estate, store: Store, name: str) -> bool:
    at = app.clock()
    try:
        copied = bring_up_to_date(estate, name)
    except HistoronError as exc:
        click.echo(f"{name}: {printable(str(exc))}", err=True)
        return False
    note_copied(store, name, at, copied)
    what = f"{count(copied.versions, 'version')} of {count(copied.sources, 'source')}"
    click.echo(f"{name}: up to date: {what}, {size_text(copied.size)}", err=True)
    return True


def _check(estate: Estate, name: str) -> bool:
    """Read the copy as a store of its own."""
    try:
        with closing(FolderStore(estate.path(estate.copies[name].path))) as copy:
            found = audit(copy, sorted(copy.states()))
    except HistoronError as exc:
        click.echo(f"{name}: {printable(str(exc))}", err=True)
        return False
    for one in [*found.ledger, *map(str, found.damages)]:
        click.echo(f"{name}: {printable(one)}", err=True)
    verdict = "all whole" if found.well else "DAMAGED"
    click.echo(
        f"{name}: {count(found.versions, 'version')} of {count(found.sources, 'source')} read: {verdict}", err=True
    )
    return found.well


def _print(statuses: Sequence[CopyStatus], estate: Estate, now: datetime) -> None:
    made = table("copy", "state", f"as of ({estate.zone.key})", "where")
    for one in statuses:
        at = instant(one.at, estate.zone) if one.at else "never"
        made.add_row(one.name, _state(one, now), at, printable(str(estate.path(one.copy.path))))
    print_table(made) if statuses else click.echo("there is no copy: write one in [copies] of the estate file")


def _state(one: CopyStatus, now: datetime) -> str:
    behind = one.behind(now)
    if behind is None:
        return "up to date"
    return f"{'BEHIND' if one.broken(now) else 'behind'} for {describe(behind)} of {describe(one.copy.promise)}"


def _row(one: CopyStatus, now: datetime) -> dict[str, object]:
    return {
        "copy": one.name, "path": one.copy.path, "at": one.at, "missing_since": one.missing_since,
        "promise_s": one.copy.promise, "behind": one.broken(now),
    }  # fmt: skip
