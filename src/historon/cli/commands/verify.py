"""`historon verify`."""

from collections.abc import Iterator
from contextlib import contextmanager
from datetime import datetime
from typing import TYPE_CHECKING

import click

from historon.cli.app import App, estate_option, example, json_option, pass_app
from historon.cli.output import console, count, print_json, printable, size_text
from historon.errors import ExitCode
from historon.notices import DeliveryResult, Event, Monitored, Notifier
from historon.store import ESTATE, Verification

if TYPE_CHECKING:
    from collections.abc import Callable

__all__ = ["command"]

_TOLD = 10  # damages in a notice
_SHOWN = 40


@click.command("verify", epilog=example("historon verify", "historon verify edge-1", "historon verify --json"))
@click.argument("names", nargs=-1, metavar="[SOURCE]...")
@estate_option
@json_option
@pass_app
def command(app: App, names: tuple[str, ...], estate_file: str | None, *, as_json: bool) -> int:
    """Read every version again, and verify it.

    Every content is read from the disk and checked against the SHA-256 with which it was written; the ledger's
    structure is checked too. Sources that the estate file no longer names are read as well. Damage is told on the
    channels, and the exit code is 5. Nothing is changed.
    """
    with app.opened(estate_file) as opened:
        with _progress(len(names) or len(opened.store.states()), quiet=as_json) as told:
            found = opened.verify(*names, told=told)
        # A look at some sources cannot tell that all of the store is whole again.
        notifier = Notifier(opened.estate, opened.store, app.clock)
        notices = _tell(notifier, found, app.clock()) if found.damages or not names else []
    if as_json:
        rows = [
            {"source": one.source, "version": one.number, "part": one.part, "problem": one.problem}
            for one in found.damages
        ]
        print_json(
            "verify",
            f"{_read(found)}: {_verdict(found)}",
            rows,
            sources=found.sources,
            versions=found.versions,
            contents=found.contents,
            size_bytes=found.bytes,
            ledger=found.ledger,
        )
    else:
        _print(found)
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

    with Progress(console=screen, transient=True) as progress:
        task = progress.add_task("reading", total=total)
        yield lambda source: progress.advance(task)


def _print(found: Verification) -> None:
    from rich.text import Text

    screen = console()
    troubles = [f"the ledger: {one}" for one in found.ledger] + [str(one) for one in found.damages]
    for one in troubles[:_SHOWN]:
        screen.print(Text(printable(one), "bold red"), soft_wrap=True)
    if len(troubles) > _SHOWN:
        click.echo(f"… {len(troubles) - _SHOWN} more: historon verify --json")
    verdict = Text(_verdict(found), "green" if found.well else "bold red")
    screen.print(Text(f"{_read(found)}: ").append_text(verdict), soft_wrap=True)
    if troubles:
        click.echo("  try: copy the store's folder before anything else; then take it back from a copy")


def _read(found: Verification) -> str:
    what = f"{count(found.contents, 'content')} of {count(found.versions, 'version')}, {count(found.sources, 'source')}"
    return f"{what}: {size_text(found.bytes)} read"


def _verdict(found: Verification) -> str:
    damaged = len(found.ledger) + len(found.damages)
    return f"{damaged} DAMAGED" if damaged else "all of it as written"


def _tell(notifier: Notifier, found: Verification, now: datetime) -> list[DeliveryResult]:
    troubles = [*found.ledger, *map(str, found.damages)]

    def make(kind: str) -> Event:
        if kind == "store-verified":
            return Event(kind, now, f"{count(found.versions, 'version')} read: all as written")
        message = f"{count(len(troubles), 'content')} cannot be read, or differ from what was written"
        return Event(kind, now, message, look="historon verify", excerpt=tuple(troubles[:_TOLD]))

    notifier.watch("store", [Monitored(ESTATE, "store-damaged" if troubles else "", "store-verified", make)])
    return list(notifier.delivery.deliver())
