"""`historon demo`: how the tour is told."""

import sys
import textwrap
from collections.abc import Sequence
from datetime import UTC, datetime, timedelta
from pathlib import Path

import click

from historon.cli.app import App

__all__ = ["Tour"]


class Tour:
    """The demo's story: what is said, and what is typed at which simulated moment."""

    def __init__(self, place: Path, nights: Sequence[datetime], latest: datetime) -> None:
        """Nothing of it happens after the `latest` moment, which is the real one."""
        self.place = place
        self.latest = latest
        self.nights = nights
        self.now = nights[0]

    def say(self, text: str) -> None:
        """A paragraph between two commands."""
        click.echo("\n" + click.style(textwrap.fill(text, 96), fg="cyan"))

    def dusk(self, night: int) -> None:
        """The next night falls."""
        self.now = self.nights[night - 1]

    def night(self, night: int, happened: str) -> None:
        """Say what happened before this night."""
        self.say(f"Night {night}, {self.now:%A %d %B, %H:%M}. {happened}")

    def type(self, *words: str) -> int:
        """Show a command as one would type it, and run it at the simulated moment."""
        from historon.cli.main import run

        shown = " ".join(words)
        if words[-1] == str(self.place):  # where the tour is: nobody needs to be told each time
            shown = shown.replace(f" --estate {self.place}", "")
        click.echo(click.style(f"\n$ historon {shown}", bold=True))
        sys.stdout.flush()
        return run([*words], App(clock=lambda: self.now.astimezone(UTC)))

    def look(self, letters: Sequence[object]) -> None:
        """The morning after: what an administrator would want to know."""
        at = ("--estate", str(self.place))
        morning = self.nights[-1] + timedelta(hours=5, minutes=30)
        self.now = min(morning, self.latest.astimezone(morning.tzinfo))
        self.say(f"It is morning, {self.now:%A %H:%M}. In {self.place}: is everything fresh, and well?")
        self.type("status", *at)
        self.say("Which versions are there of northmole-edge-1? Nights on which only its clock changed are left out.")
        self.type("versions", "northmole-edge-1", *at)
        self.say("What was its last change? Secrets are masked; the mark changes when the secret does.")
        self.type("diff", "northmole-edge-1", *at)
        self.say("And what changed across the estate this week? Equal edits are shown once, the gravest first.")
        self.type("changes", *at)
        self.say("Who opened the office to everybody, and since when? A requirement in the estate file forbids it.")
        self.type("requirements", *at)
        self.type("trace", "office-edge-1", "permit any", *at)
        self.type("diff", "saltgate-wall-1", "--form", "outline", *at)
        before = f"office-edge-1@{self.nights[-2]:%Y-%m-%d}"
        self.say(
            "So the router is brought back to what it was. The change is shown first, and looked at afterwards; "
            "where a person types, the router's name has to be typed as well."
        )
        self.type("push", before, "--lines", *at)
        self.type("push", before, "--yes", self._digest(before), *at)
        self.say("Does anything differ every night on the file server? Two versions cannot tell, and it says so.")
        self.type("noise", "purser-files", *at)
        self.say("Somebody wants the tariffs back as they were before they rose in night 4:")
        restored = str(self.place / "restored")
        self.type(
            "restore", f"purser-files@{self.nights[2]:%Y-%m-%d}", "--only", "purser/tariffs", "--to", restored, *at
        )
        self.say("What does retention remove? The plan comes first; of many versions at once the number is confirmed.")
        self.type("prune", "--yes", "--exactly", str(self._going()), *at)
        self.say("The versions are to outlive this machine: a copy of everything goes into a bucket of another one.")
        self.type("copies", "--update", *at)
        self.type("copies", "--verify", "all", *at)
        anew = str(self.place / "anew")
        self.say("The day the machine is lost: it takes a file that says where the copy is, and the accounts' secrets.")
        self.type("new", anew, "--from-copy", str(self.place / "rescue.toml"))
        self.type("versions", "northmole-edge-1", "--estate", anew)
        self._show_mail(letters)
        self.say(f"That was the tour. Everything is in {self.place}: try the commands there, and read historon.toml.")
        click.echo("\n  historon --help          all commands\n  historon new DIR       your own estate")

    def _digest(self, version: str) -> str:
        """By what a script names the change that it means."""
        with App(clock=lambda: self.now.astimezone(UTC)).opened(str(self.place)) as opened:
            return opened.plan_push(version).digest

    def _going(self) -> int:
        """How many versions retention lets go now."""
        with App(clock=lambda: self.now.astimezone(UTC)).opened(str(self.place)) as opened:
            return sum(not one.stays for plan in opened.plan_prune().values() for one in plan)

    def _show_mail(self, letters: Sequence[object]) -> None:
        from email.message import EmailMessage

        self.say("The mail relay received these letters, about rounds with changes or trouble. The worst one in full:")
        received = [letter for letter in letters if isinstance(letter, EmailMessage)]
        click.echo()
        for letter in received:
            click.echo(f"  Subject: {letter['Subject']}")
        worst = next((letter for letter in received if "FAILED" in letter["Subject"]), None)
        body = worst.get_body(("plain",)) if worst else None
        if body:
            click.echo("\n" + textwrap.indent(body.get_content(), "  | ", lambda _: True), nl=False)
