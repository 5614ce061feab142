"""`historon doctor`."""

import click

from historon.cli.app import App, estate_option, example, json_option, pass_app
from historon.cli.output import console, count, print_json, printable
from historon.collect import examine
from historon.errors import ExitCode

__all__ = ["command"]


@click.command("doctor", epilog=example("historon doctor", "historon doctor --json"))
@estate_option
@json_option
@pass_app
def command(app: App, estate_file: str | None, *, as_json: bool) -> int:
    """Examine the estate file, the machine, secrets, disk and permissions.

    Asks no source anything. Each finding has its remedy; the exit code is 1 when something is wrong, 0 when there is
    advice alone.
    """
    estate = app.estate(estate_file)
    with app.store(estate) as store:
        findings = examine(estate, store, now=app.clock())
    if as_json:
        print_json([
            {"wrong": one.wrong, "about": one.about, "what": one.what, "remedy": one.remedy} for one in findings
        ])  # fmt: skip
    wrong = sum(finding.wrong for finding in findings)
    if not as_json:
        from rich.text import Text

        screen = console()
        for finding in findings:
            style = "bold red" if finding.wrong else "yellow"
            screen.print(Text.assemble(("wrong   " if finding.wrong else "advice  ", style), printable(finding.about)))
            screen.print(Text(f"        {printable(finding.what)}"))
            screen.print(Text(f"        {printable(finding.remedy)}", style="dim"))
        pieces = count(len(estate.sources), "source"), count(len(estate.procedures), "procedure")
        advice = f"{len(findings) - wrong} with advice" if len(findings) > wrong else "no advice"
        gap = "\n" if findings else ""
        click.echo(f"{gap}{', '.join(pieces)}: {wrong or 'nothing'} wrong, {advice}")
    return ExitCode.FOUND if wrong else ExitCode.WELL
