"""What every command shares: the estate file, the store, the clock, and the options that name them."""

import os
import sys
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass, field
from datetime import UTC, datetime
from typing import Any, TypeVar, cast

import click

from historon.api import Estate, find_estate_file
from historon.estate import Estate as EstateFile
from historon.estate import read_estate
from historon.store import Store, still_paused, unfinished_pushes

__all__ = [
    "App",
    "colours_forced",
    "columns_given",
    "estate_option",
    "example",
    "json_option",
    "pass_app",
    "query_options",
    "reveal_option",
    "where_option",
]

F = TypeVar("F", bound=Callable[..., Any])


def _now() -> datetime:
    """The instant that it is, in UTC."""
    return datetime.now(UTC)


@dataclass
class App:
    """The surroundings of a command; the demo brings a clock of its own."""

    clock: Callable[[], datetime] = field(default=_now)

    @property
    def interactive(self) -> bool:
        """Whether a person is there to be asked."""
        return sys.stdin.isatty() and sys.stdout.isatty()

    @property
    def journal(self) -> bool:
        """Whether standard error goes to the journal (systemd.exec(5), JOURNAL_STREAM)."""
        stream = os.environ.get("JOURNAL_STREAM")
        if not stream:
            return False
        stat = os.fstat(sys.stderr.fileno())
        return stream == f"{stat.st_dev}:{stat.st_ino}"

    def estate(self, named: str | None) -> EstateFile:
        """The estate file that is named, by option or variable, else the nearest one from this folder upwards."""
        return read_estate(find_estate_file(named))

    @contextmanager
    def opened(self, named: str | None, *, tell_paused: bool = True, spend_reserve: bool = False) -> Iterator[Estate]:
        """The estate that is named, with its store, closed again at the end; see `store`."""
        with Estate(self.estate(named), clock=self.clock, spend_reserve=spend_reserve) as opened:
            if tell_paused:
                self._tell_paused(opened.store)
            self._tell_unfinished(opened.store)
            yield opened

    @contextmanager
    def store(self, estate: EstateFile, *, tell_paused: bool = True, spend_reserve: bool = False) -> Iterator[Store]:
        """The estate's store, closed again at the end.

        Services that were left paused are shown, unless the command shows them itself.
        """
        with Estate(estate, clock=self.clock, spend_reserve=spend_reserve) as opened:
            if tell_paused:
                self._tell_paused(opened.store)
            self._tell_unfinished(opened.store)
            yield opened.store

    def _tell_paused(self, store: Store) -> None:
        for one in still_paused(store, self.clock()):
            words = f"SERVICE NOT RESUMED: {one.source}: Historon ended while it was paused"
            click.echo(f"historon: {words}", err=True)
            click.echo(f"  try: historon collect {one.source}; or run by hand, now: {one.words}", err=True)

    def _tell_unfinished(self, store: Store) -> None:
        for push in unfinished_pushes(store, self.clock()):
            name = f"{push.source}@{push.wanted}"
            words = f"PUSH INTERRUPTED: {push.source} may be between two versions: "
            words += push.why or f"Historon ended while it pushed {name}"
            click.echo(f"historon: {words}", err=True)
            again = f"historon push {name}; to go back: historon push {push.source}@{push.before}"
            click.echo(f"  try: historon collect {push.source}; then {again}", err=True)


def colours_forced() -> bool:
    """Whether $FORCE_COLOR says that what is no terminal shows colours too."""
    return bool(os.environ.get("FORCE_COLOR"))


def columns_given() -> int | None:
    """The width that $COLUMNS gives, for output that is piped."""
    columns = os.environ.get("COLUMNS", "")
    return int(columns) if columns.isdecimal() else None


def pass_app(function: F) -> F:
    """Give the command the App, made now unless somebody has brought one."""
    return cast(F, click.make_pass_decorator(App, ensure=True)(function))


def _estate_file() -> str | None:
    """The estate that is named before the command, else by the environment."""
    named: str | None = click.get_current_context().find_root().params.get("estate_file")
    return named or os.environ.get("HISTORON_ESTATE")


def estate_option(function: F) -> F:
    """Every command about an estate takes its place."""
    return click.option(
        "--estate",
        "estate_file",
        metavar="FILE",
        default=_estate_file,
        help="The estate file or its folder. [default: $HISTORON_ESTATE, or historon.toml here or above]",
    )(function)


def where_option(function: F) -> F:
    """Narrow a command to sources by their labels."""
    return click.option(
        "--where", multiple=True, metavar="LABEL=VALUE", help="Only sources with this label; repeatable."
    )(function)


def query_options(function: F) -> F:
    """How a text that is looked for is meant."""
    expression = click.option("-e", "--expression", is_flag=True, help="TEXT is a regular expression for lines.")
    exact = click.option("--exact-case", is_flag=True, help="Match upper and lower case exactly.")
    return expression(exact(function))


def json_option(function: F) -> F:
    """The same data, for programs."""
    return click.option("--json", "as_json", is_flag=True, help="Print JSON instead of text.")(function)


def reveal_option(function: F) -> F:
    """Show secrets: masked wherever they would be seen unless this is given, by one rule (docs/commands.md)."""
    return click.option("--reveal", is_flag=True, help="Show secrets instead of masking them.")(function)


def example(*lines: str) -> str:
    """The end of a command's help: what one would really type."""
    return "\b\nExamples:\n" + "\n".join(f"  {line}" for line in lines)
