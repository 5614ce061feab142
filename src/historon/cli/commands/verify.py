"""`historon verify`."""

from collections.abc import Iterator
from contextlib import contextmanager
from datetime import datetime
from typing import TYPE_CHECKING

import click

from historon.base.errors import ExitCode
from historon.cli.app import App, estate_option, example, json_option, pass_app, where_option
from historon.cli.output import console, count, print_json, printable
from historon.cli.views import verify as view
from historon.notices import DeliveryResult, Event, Monitored, Notifier
from historon.store import ESTATE, Verification
from historon.store import accept_losses as accept

if TYPE_CHECKING:
    from collections.abc import Callable

__all__ = ["command"]

_TOLD = 10  # damages in a notice


@click.command("verify", epilog=example("historon verify", "historon verify edge-1", "historon verify --json"))
@click.argument("names", nargs=-1, metavar="[SOURCE]...")
@click.option(
    "--accept-losses",
    is_flag=True,
    help="Accept versions that were already damaged in the copy that the store was made from.",
)
@where_option
@estate_option
@json_option
@pass_app
def command(
    app: App,
    names: tuple[str, ...],
    where: tuple[str, ...],
    estate_file: str | None,
    *,
    accept_losses: bool,
    as_json: bool,
) -> int:
    """Read every version again and check it against its SHA-256.

    The structure of the ledger is checked too, and sources that are no longer in the estate file are included. Damage
    is reported on the channels, and the exit code is 5. Nothing is changed.
    """
    with app.opened(estate_file) as opened:
        if where:
            names = tuple(source.name for source in opened.select(*names, where=where))
        if accept_losses:
            accept(opened.store)
        with _progress(len(names) or len(opened.store.states()), quiet=as_json) as told:
            found = opened.verify(*names, observer=told)
        # A look at some sources cannot tell that all of the store is whole again.
        notifier = Notifier(opened.described, opened.store, app.clock)
        notices = _tell(notifier, found, app.clock()) if found.damages or not names else []
    if as_json:
        rows = [
            {"source": one.source, "version": one.number, "part": one.part, "problem": one.problem}
            for one in found.damages
        ]
        print_json(
            "verify",
            f"{view.read(found)}: {view.verdict(found)}",
            rows,
            sources=found.sources,
            versions=found.versions,
            contents=found.contents,
            size_bytes=found.bytes,
            ledger=found.ledger,
        )
    else:
        view.print_all(found)
    for one in notices:
        if one.trouble:
            click.echo(f"historon: notice not sent to {one.channel}: {printable(one.trouble)}", err=True)
    return ExitCode.WELL if found.well else ExitCode.STORE


@contextmanager
def _progress(total: int, *, quiet: bool) -> "Iterator[Callable[[str], None]]":
    screen = console(stderr=True)
    if quiet or not screen.is_terminal:
        yield lambda source: None
        return
    from rich.progress import Progress

    with Progress(console=screen.rich, transient=True) as progress:
        task = progress.add_task("reading", total=total)
        yield lambda source: progress.advance(task)


def _tell(notifier: Notifier, found: Verification, now: datetime) -> list[DeliveryResult]:
    troubles = [*found.ledger, *map(str, found.damages)]

    def make(kind: str) -> Event:
        if kind == "store-verified":
            return Event(kind, now, f"{count(found.versions, 'version')} read: all intact")
        message = f"{count(len(troubles), 'content')} cannot be read, or differ from their SHA-256"
        return Event(kind, now, message, look="historon verify", excerpt=tuple(troubles[:_TOLD]))

    notifier.watch("store", [Monitored(ESTATE, "store-damaged" if troubles else "", "store-verified", make)])
    return list(notifier.delivery.deliver())
