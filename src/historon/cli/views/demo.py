"""`historon demo`: how the tour is played."""

import io
import sys
import textwrap
from collections.abc import Sequence
from contextlib import redirect_stderr, redirect_stdout
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import TYPE_CHECKING

import click

from historon.cli.app import App

if TYPE_CHECKING:
    from email.message import EmailMessage

__all__ = ["Tour"]

_FIRST, _BAD = 1, 5  # the nights that are shown unless all are


class Tour:
    """The demo's story: what is said, and what is typed at which simulated moment."""

    def __init__(self, place: Path, nights: Sequence[datetime], latest: datetime, *, full: bool) -> None:
        """Nothing of it happens after the `latest` moment, which is the real one."""
        self.place = place
        self.full = full
        self.latest = latest
        self.nights = nights
        self.now = nights[0]

    def say(self, text: str, *, aside: bool = False) -> None:
        """A paragraph between two commands; an aside only in full."""
        if self.full or not aside:
            click.echo("\n" + click.style(textwrap.fill(text, 96), fg="cyan"))

    def dusk(self, night: int) -> None:
        """The next night falls."""
        self.now = self.nights[night - 1]

    def night(self, night: int, happened: str) -> None:
        """Say what happened before this night."""
        self.say(f"Night {night}, {self.now:%A %d %B, %H:%M}. {happened}", aside=night not in (_FIRST, _BAD))

    def collect(self, night: int, letters: Sequence[object]) -> None:
        """The night's round: the first is shown, the bad one by its letter, the others only in full."""
        self.type("collect", "--estate", str(self.place), aside=night != _FIRST)
        if night == _BAD:
            self.say("The mail relay receives this letter:")
            self._show_letter(letters)

    def type(self, *words: str, aside: bool = False) -> int:
        """Show a command as one would type it, and run it at the simulated moment; an aside is shown only in full."""
        from historon.cli.main import run

        if aside and not self.full:
            with redirect_stdout(io.StringIO()), redirect_stderr(io.StringIO()):
                return run([*words], App(clock=lambda: self.now.astimezone(UTC)))
        shown = " ".join(words)
        if words[-1] == str(self.place):  # where the tour is: it need not be shown each time
            shown = shown.replace(f" --estate {self.place}", "")
        click.echo(click.style(f"\n$ historon {shown}", bold=True))
        sys.stdout.flush()
        return run([*words], App(clock=lambda: self.now.astimezone(UTC)))

    def look(self, letters: Sequence[object]) -> None:
        """The morning after: what an administrator would want to know."""
        at = ("--estate", str(self.place))
        morning = self.nights[-1] + timedelta(hours=5, minutes=30)
        self.now = min(morning, self.latest.astimezone(morning.tzinfo))
        self.say(f"It is morning, {self.now:%A %H:%M}. In {self.place}: is everything well?")
        self.type("status", *at)
        self.say(
            "Which versions of northmole-edge-1 are there? Nights in which only its clock changed are not listed.",
            aside=True,
        )
        self.type("versions", "northmole-edge-1", *at, aside=True)
        self.say("What was the last change of northmole-edge-1? Secrets are masked; a changed secret has another mark.")
        self.type("diff", "northmole-edge-1", *at)
        over = "across the estate" if self.full else "at the edge routers"
        self.say(f"What changed {over} this week? Equal edits are shown once, the gravest first.")
        self.type("changes", *(() if self.full else ("--where", "role=edge")), *at)
        self._look_closer(at)
        self.say("The tariffs are needed as they were before they rose in night 4:")
        restored = str(self.place / "restored")
        self.type(
            "restore", f"purser-files@{self.nights[2]:%Y-%m-%d}", "--only", "purser/tariffs", "--to", restored, *at
        )
        self._keep(at)
        self._list_letters(letters)
        self.say(f"The demo is over. The estate is in {self.place}: try the commands there, and read historon.toml.")
        click.echo("\n  historon --help          all commands\n  historon new DIR         your own estate")
        if not self.full:
            click.echo("  historon demo --full     all of the week, with requirements, push, prune and copies")

    def _look_closer(self, at: Sequence[str]) -> None:
        """Requirements, a push to a device, and noise."""
        self.say(
            "Who opened the office to every address, and since when? A requirement in the estate file forbids it.",
            aside=True,
        )
        self.type("requirements", *at, aside=True)
        self.type("trace", "office-edge-1", "permit any", *at, aside=True)
        self.type("diff", "saltgate-wall-1", "--form", "outline", *at, aside=True)
        before = f"office-edge-1@{self.nights[-2]:%Y-%m-%d}"
        self.say(
            "The last good version is pushed to the router. The change is shown first, and checked "
            "afterwards. At a terminal the router's name must be typed as well.",
            aside=True,
        )
        self.type("push", before, "--lines", *at, aside=True)
        self.type("push", before, "--confirm", self._digest(before), *at, aside=True)
        self.say("Does a line differ every night on the file server? Two versions are too few to know.", aside=True)
        self.type("noise", "purser-files", *at, aside=True)

    def _keep(self, at: Sequence[str]) -> None:
        """Retention, a copy, and a rebuild from it."""
        self.say(
            "What does retention remove? The plan comes first; many removals at once need their number.", aside=True
        )
        self.type("prune", "--yes", "--exactly", str(self._going()), *at, aside=True)
        self.say(
            "The versions shall survive this machine: a copy of the whole store goes into a bucket on another one.",
            aside=True,
        )
        self.type("copies", "--update", *at, aside=True)
        self.type("copies", "--verify", "all", *at, aside=True)
        new = str(self.place / "anew")
        self.say(
            "The machine is lost. A rebuild needs a file with the place of the copy, and the accounts' secrets.",
            aside=True,
        )
        self.type("new", new, "--from-copy", str(self.place / "rescue.toml"), aside=True)
        self.type("versions", "northmole-edge-1", "--estate", new, aside=True)

    def _digest(self, version: str) -> str:
        """By what a script names the change that it means."""
        with App(clock=lambda: self.now.astimezone(UTC)).opened(str(self.place)) as opened:
            return opened.version(version).plan_push().digest

    def _going(self) -> int:
        """How many versions retention lets go now."""
        with App(clock=lambda: self.now.astimezone(UTC)).opened(str(self.place)) as opened:
            return len(opened.plan_prune().removals)

    def _list_letters(self, letters: Sequence[object]) -> None:
        self.say("The mail relay received these letters, about rounds with changes or trouble:", aside=True)
        for letter in _received(letters) if self.full else ():
            click.echo(f"  Subject: {letter['Subject']}")

    def _show_letter(self, letters: Sequence[object]) -> None:
        """The last letter, in full."""
        latest = _received(letters)[-1:]
        body = latest[0].get_body(("plain",)) if latest else None
        if body:
            click.echo(f"\n  Subject: {latest[0]['Subject']}\n")
            click.echo(textwrap.indent(body.get_content(), "  | ", lambda _: True), nl=False)


def _received(letters: Sequence[object]) -> "list[EmailMessage]":
    from email.message import EmailMessage

    return [letter for letter in letters if isinstance(letter, EmailMessage)]
