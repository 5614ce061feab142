"""`historon copies`."""

from collections.abc import Sequence
from datetime import datetime

import click

from historon.api import Historon
from historon.api.copying import known_copies
from historon.cli.app import App, estate_option, example, json_option, pass_app
from historon.cli.output import count, instant, print_json, print_table, printable, size_text, table
from historon.copies import CopyStatus
from historon.errors import ExitCode, HistoronError, UsageError
from historon.estate import Copy, Estate, describe

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
        print_json("copies", _headline(statuses, now), [_row(one, now) for one in statuses])
    elif not update and not verifying:
        _print(statuses, estate, now)
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


def _headline(statuses: Sequence[CopyStatus], now: datetime) -> str:
    if not statuses:
        return "there is no copy: write one in [copies] of the estate file"
    late = sum(one.overdue(now) for one in statuses)
    behind = sum(one.missing_since is not None for one in statuses) - late
    current = len(statuses) - late - behind
    states = ((late, "BEHIND for too long"), (behind, "behind"), (current, "up to date"))
    told = [f"{number} {state}" for number, state in states if number]
    return f"{count(len(statuses), 'copy', 'copies')}: {', '.join(told)}"


def _print(statuses: Sequence[CopyStatus], estate: Estate, now: datetime) -> None:
    click.echo(_headline(statuses, now))
    made = table("copy", "kind", "state", f"as of ({estate.zone})", "where", wrap=("where",))
    for one in statuses:
        at = instant(one.at, estate.zone) if one.at else "never"
        made.add_row(one.name, one.copy.kind, _state(one, now), at, printable(_where(one.copy, estate)))
    if statuses:
        print_table(made)


def _where(copy: Copy, estate: Estate) -> str:
    return copy.place if copy.writes_to is None else str(estate.path(copy.path))


def _state(one: CopyStatus, now: datetime) -> str:
    behind = one.behind(now)
    if behind is None:
        if one.left_out:
            return f"up to date but for {count(one.left_out, 'part')}"
        return "up to date"
    return f"{'BEHIND' if one.overdue(now) else 'behind'} for {describe(behind)} of {one.copy.max_lag}"


def _row(one: CopyStatus, now: datetime) -> dict[str, object]:
    behind = one.behind(now)
    state = "up to date"
    if behind is not None:
        state = "behind for too long" if one.overdue(now) else "behind"
    return {
        "copy": one.name,
        "kind": one.copy.kind,
        "path": one.copy.place,
        "state": state,
        "as_of": one.at,
        "left_out": one.left_out,
        "missing_since": one.missing_since,
        "lag_s": behind,
        "max_lag_s": one.copy.max_lag,
    }
