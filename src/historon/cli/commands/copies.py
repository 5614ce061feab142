"""`historon copies`."""

from collections.abc import Callable, Sequence
from functools import partial

import click

from historon.api import Copy, Estate, newest_first, statuses_of
from historon.base.errors import ExitCode, HistoronError, UsageError
from historon.base.quantities import size_text
from historon.cli.app import App, estate_option, example, json_option, pass_app
from historon.cli.output import count, print_json, printable
from historon.cli.views import copies as view
from historon.copies import CopyStatus
from historon.notices import Notifier, about_copy

__all__ = ["command"]

_SAMPLE = 200
_SHOWN = 10  # parts that were left out


@click.command(
    "copies",
    epilog=example(
        "historon copies",
        "historon copies --update",
        "historon copies saltgate --verify",
        "historon copies --compare",
    ),
)
@click.argument("names", nargs=-1, metavar="[COPY]...")
@click.option("--update", is_flag=True, help="Update the copies.")
@click.option(
    "--verify",
    "verifying",
    is_flag=False,
    flag_value="sample",
    type=click.Choice(("sample", "all")),
    help=f"Verify a random sample of {_SAMPLE} items, or all of them. [default: sample]",
)
@click.option("--compare", is_flag=True, help="Show which places hold the same digest of each version.")
@click.option(
    "--removed",
    metavar="DIGEST",
    help="With --update: accept unexplained removals, by the digest that the refusal shows.",
)
@estate_option
@json_option
@pass_app
def command(
    app: App,
    names: tuple[str, ...],
    *,
    update: bool,
    verifying: str | None,
    compare: bool,
    removed: str | None,
    estate_file: str | None,
    as_json: bool,
) -> int:
    """List, update, verify or compare copies of the store.

    A copy is a whole store (historon new --from-copy makes an estate from it), plain files, or a git repository. The
    service updates copies automatically. A copy belongs to one store. A store that lacks a version of the copy, or has
    another version under the same number, never overwrites it. Damage that --verify finds stays listed until an update
    repairs it. The exit code is 1 when a copy is behind for longer than its max_lag. It is 5
    when a copy is damaged, refused, missing, or could not be updated.
    """
    _check_options(update=update, verifying=verifying, compare=compare, removed=removed)
    with app.opened(estate_file) as opened:
        if compare:
            return _compare(opened, names, as_json=as_json)
        chosen = opened.copies(*names)
        if not chosen and (update or verifying):
            what = "update" if update else "verify"
            raise UsageError(f"there is no copy to {what}", hint="add one to [copies] in the estate file")
        say = partial(click.echo, err=as_json)  # where the result is JSON, these lines go beside it
        wrong = _update_all(opened, chosen, removed, say) if update else 0
        wrong += _verify_all(chosen, verifying, say) if verifying else 0
        statuses = statuses_of(opened, chosen)
        if update or verifying:
            _tell(opened, statuses)
    now = app.clock()
    if as_json:
        print_json("copies", view.headline(statuses, now), [view.row(one, now) for one in statuses])
    elif not update and not verifying:
        view.print_all(statuses, opened.described, now)
    if wrong or any(one.is_wrong for one in statuses):
        return ExitCode.STORE
    if any(one.overdue(now) or one.left_out for one in statuses):
        return ExitCode.FOUND
    return ExitCode.WELL


def _check_options(*, update: bool, verifying: str | None, compare: bool, removed: str | None) -> None:
    if removed is not None and not update:
        raise UsageError("--removed accepts removals for an update", hint="historon copies --update --removed DIGEST")
    if compare and (update or verifying):
        raise UsageError("--compare changes nothing and reads everything", hint="omit --update and --verify")


def _update_all(opened: Estate, copies: Sequence[Copy], removed: str | None, say: Callable[[str], None]) -> int:
    """Returns how many could not be brought up to date."""
    if removed is not None:
        opened.confirm_removals(removed)
    return sum(not _update(copy, say) for copy in newest_first(opened, copies))


def _verify_all(copies: Sequence[Copy], how: str, say: Callable[[str], None]) -> int:
    """Returns how many are not well."""
    return sum(not _verify(copy, _SAMPLE if how == "sample" else None, say) for copy in copies)


def _tell(opened: Estate, statuses: Sequence[CopyStatus]) -> None:
    """Whoever hears of copies hears of one that is refused or damaged, and of its end."""
    notifier = Notifier(opened.described, opened.store, opened.clock)
    for one in statuses:
        notifier.watch(f"copy {one.name}", [about_copy(one, opened.clock())])
    for told in notifier.delivery.deliver():
        if told.trouble:
            click.echo(f"historon: notice not sent to {told.channel}: {printable(told.trouble)}", err=True)


def _compare(opened: Estate, names: Sequence[str], *, as_json: bool) -> int:
    found = opened.compare_copies(*names)
    view.print_compared(found, as_json=as_json)
    wrong = found.differing or found.others
    return ExitCode.STORE if wrong else ExitCode.OUTSIDE if found.unknown else ExitCode.WELL


def _update(copy: Copy, say: Callable[[str], None]) -> bool:
    try:
        copied = copy.update()
    except HistoronError as exc:
        click.echo(f"{copy}: {printable(str(exc))}", err=True)
        return False
    what = f"{count(copied.versions, 'version')} of {count(copied.sources, 'source')}"
    but = f", except {count(len(copied.left_out), 'part')}" if copied.left_out else ""
    say(f"{copy}: up to date{but}: {what}, {size_text(copied.size)}")
    if copied.mended:
        more = f" and {len(copied.mended) - _SHOWN} more" if len(copied.mended) > _SHOWN else ""
        told = ", ".join(map(printable, copied.mended[:_SHOWN]))
        say(f"{copy}: damage was repaired: {told}{more}")
    for one in copied.left_out[:_SHOWN]:
        click.echo(f"{copy}: not copied: {printable(one)}", err=True)
    if len(copied.left_out) > _SHOWN:
        click.echo(f"{copy}: not copied: {len(copied.left_out) - _SHOWN} more", err=True)
    if copied.left:
        click.echo(f"{copy}: {count(copied.left, 'unused object')} could not be removed", err=True)
    return True


def _verify(copy: Copy, sample: int | None, say: Callable[[str], None]) -> bool:
    try:
        found = copy.verify(sample=sample)
    except HistoronError as exc:
        click.echo(f"{copy}: {printable(str(exc))}", err=True)
        return False
    for one in [*found.ledger, *map(str, found.damages), *map(str, found.differing)]:
        click.echo(f"{copy}: {printable(one)}", err=True)
    if found.sample_of is not None:
        read = f"a sample was read, of {found.sample_of:,} items"
        well = "the sample is intact, the rest is unknown"
    else:
        read = f"{count(found.versions, 'version')} of {count(found.sources, 'source')} read"
        well = "all intact"
    verdict = "DIFFERS from the store" if found.differing else well
    if found.ledger or found.damages:
        verdict = "DAMAGED"
    line = f"{copy}: {read}: {verdict}"
    if found.well:
        say(line)
    else:
        click.echo(line, err=True)
    return found.well
