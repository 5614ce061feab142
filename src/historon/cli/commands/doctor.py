"""`historon doctor`."""

from collections.abc import Sequence

import click

from historon.api import Estate
from historon.base.errors import ExitCode
from historon.cli.app import App, estate_option, example, json_option, pass_app, where_option
from historon.cli.output import console, count, print_json, printable
from historon.cli.styled import Text
from historon.doctor import Finding
from historon.estate import Source

__all__ = ["command"]


@click.command("doctor", epilog=example("historon doctor", "historon doctor --where site=northmole"))
@where_option
@estate_option
@json_option
@pass_app
def command(app: App, where: tuple[str, ...], estate_file: str | None, *, as_json: bool) -> int:
    """Check the estate file, machine, secrets, disk and permissions.

    No source is contacted. Each finding has its remedy. With --where: check only these sources, their procedures and
    accounts. The exit code is 1 when something is wrong, and 0 when there is only advice.
    """
    with Estate(app.estate(estate_file), clock=app.clock) as opened:
        findings = opened.doctor(where=where)
        sources = opened.select(where=where)
    wrong = sum(finding.wrong for finding in findings)
    headline = _headline(sources, wrong, len(findings) - wrong)
    if as_json:
        print_json("doctor", headline, [_row(finding) for finding in findings])
    else:
        _print(findings, headline)
    return ExitCode.FOUND if wrong else ExitCode.WELL


def _headline(sources: Sequence[Source], wrong: int, advice: int) -> str:
    procedures = {source.procedure for source in sources}
    looked_at = f"{count(len(sources), 'source')}, {count(len(procedures), 'procedure')}"
    return f"{looked_at}: {wrong or 'nothing found'} wrong, {f'{advice} with' if advice else 'no'} advice"


def _print(findings: Sequence[Finding], headline: str) -> None:
    from rich.padding import Padding

    click.echo(headline)
    screen = console()
    for finding in findings:
        style = "bold red" if finding.wrong else "yellow"
        head = Text.assemble(("wrong   " if finding.wrong else "advice  ", style), printable(finding.about))
        screen.print(head, soft_wrap=True)
        for line, line_style in ((finding.what, ""), (f"try: {finding.remedy}", "dim")):
            screen.print(Padding(Text(printable(line), line_style), (0, 0, 0, 8), expand=False))


def _row(finding: Finding) -> dict[str, object]:
    severity = "wrong" if finding.wrong else "advice"
    return {"severity": severity, "about": finding.about, "what": finding.what, "hint": finding.remedy}
