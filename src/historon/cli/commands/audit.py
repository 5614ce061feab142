"""`historon audit`."""

from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from datetime import datetime
from typing import TYPE_CHECKING

import click

from historon.cli.app import App, estate_option, example, json_option, pass_app
from historon.cli.output import console, count, print_json, printable, size_text
from historon.errors import ExitCode, UsageError
from historon.estate import nearest
from historon.notices import Event, Teller, Told, Watched
from historon.store import ESTATE, Audit, Store, audit

if TYPE_CHECKING:
    from collections.abc import Callable

__all__ = ["command"]

_TOLD = 10  # damages in a notice
_SHOWN = 40


@click.command("audit", epilog=example("historon audit", "historon audit edge-1", "historon audit --json"))
@click.argument("names", nargs=-1, metavar="[SOURCE]...")
@estate_option
@json_option
@pass_app
def command(app: App, names: tuple[str, ...], estate_file: str | None, *, as_json: bool) -> int:
    """Read every version again, and verify it.

    Every content is read from the disk and held against the SHA-256 with which it was written; the ledger's structure
    is checked too. Sources that the estate file names no more are read as well. Damage is told on the channels, and the
    exit code is 5. Nothing is changed.
    """
    estate = app.estate(estate_file)
    with app.store(estate) as store:
        sources = _chosen(store, names)
        with _progress(len(sources), quiet=as_json) as told:
            found = audit(store, sources, told)
        # A look at some sources cannot tell that all of the store is whole again.
        notices = _tell(Teller(estate, store, app.clock), found, app.clock()) if found.damages or not names else []
    if as_json:
        print_json({
            "sources": found.sources, "versions": found.versions, "contents": found.contents, "bytes": found.bytes,
            "ledger": found.ledger, "damages": [vars(one) for one in found.damages],
        })  # fmt: skip
    else:
        _print(found)
    for one in notices:
        if one.trouble:
            click.echo(f"notice not sent to {one.channel}: {printable(one.trouble)}", err=True)
    return ExitCode.WELL if found.well else ExitCode.STORE


def _chosen(store: Store, names: Sequence[str]) -> list[str]:
    known = sorted(store.states())
    for name in names:
        if name not in known:
            raise UsageError(f'nothing was ever collected from "{name}"', hint=nearest(name, known))
    return list(names) or known


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


def _print(found: Audit) -> None:
    from rich.text import Text

    screen = console()
    troubles = [f"the ledger: {one}" for one in found.ledger] + [str(one) for one in found.damages]
    for one in troubles[:_SHOWN]:
        screen.print(Text(printable(one), "bold red"), soft_wrap=True)
    if len(troubles) > _SHOWN:
        click.echo(f"… {len(troubles) - _SHOWN} more: historon audit --json")
    read = f"{count(found.contents, 'content')} of {count(found.versions, 'version')}, {count(found.sources, 'source')}"
    verdict = Text("all whole", "green") if found.well else Text(f"{len(troubles)} DAMAGED", "bold red")
    screen.print(Text(f"{read}: {size_text(found.bytes)} read: ").append_text(verdict))
    if troubles:
        click.echo("what next: copy the store's folder before anything else; then restore it from a copy")


def _tell(teller: Teller, found: Audit, now: datetime) -> list[Told]:
    troubles = [*found.ledger, *map(str, found.damages)]

    def make(kind: str) -> Event:
        if kind == "audit-well":
            return Event(kind, now, f"{found.versions} versions were read again")
        message = f"{len(troubles)} things are not what was written"
        return Event(kind, now, message, look="historon audit", excerpt=tuple(troubles[:_TOLD]))

    teller.watch("audit", [Watched(ESTATE, "audit-damage" if troubles else "", "audit-well", make)])
    return list(teller.delivery.deliver())
