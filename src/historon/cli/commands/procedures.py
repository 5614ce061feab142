"""`historon procedures`."""

from collections.abc import Iterator

import click

from historon.base.errors import HistoronError, UsageError
from historon.cli.app import App, estate_option, example, json_option, pass_app
from historon.cli.output import count, print_json, printable
from historon.cli.views import procedures as view
from historon.estate import Estate, Procedure, Step, nearest, read_procedure, shipped_names, shipped_text, walk

__all__ = ["command"]

_LONG = ("steps", "json", "headers", "form", "body", "filter")  # clauses that a line has no room for


@click.command("procedures", epilog=example("historon procedures", "historon procedures netconf"))
@click.argument("name", required=False)
@estate_option
@json_option
@pass_app
def command(app: App, name: str | None, estate_file: str | None, *, as_json: bool) -> None:
    """List or explain procedures: how a kind of source is collected.

    With NAME: its steps, the values that it takes, and the text of a shipped procedure, to copy from.
    """
    estate = _estate(app, estate_file)
    known = {shipped: read_procedure(shipped) for shipped in shipped_names()}
    if estate:
        known |= estate.procedures
    used = [source.procedure for source in estate.sources.values()] if estate else []
    if name is not None and name not in known:
        raise UsageError(f'there is no procedure "{name}"', hint=nearest(name, known))
    if as_json:
        rows = [view.row(one, known[one], used.count(one)) for one in sorted(known) if name in (None, one)]
        print_json("procedures", count(len(rows), "procedure"), rows)
    elif name is None:
        view.print_all(known, used)
    else:
        _explain(name, known[name], shipped=name in shipped_names() and not (estate and name in estate.procedures))


def _estate(app: App, named: str | None) -> Estate | None:
    """The estate where there is one: the shipped procedures can be looked at without."""
    try:
        return app.estate(named)
    except HistoronError:
        if named is not None:
            raise
        return None


def _explain(name: str, procedure: Procedure, *, shipped: bool) -> None:
    click.echo(f"{name}: over {procedure.over}")
    if procedure.about:
        click.echo(printable(procedure.about.strip()))
    if procedure.values:
        click.echo("\nvalues, which a source may replace:")
        for key, value in procedure.values.items():
            click.echo(f'  {key} = "{printable(value)}"')
    for heading, steps in _lists(procedure).items():
        click.echo(f"\n{heading}:")
        for line in _steps(steps):
            click.echo(f"  {printable(line)}")
    if procedure.proof:
        click.echo("\nproof:")
        for command in procedure.proof:
            click.echo(f"  {printable(' '.join(command))}")
    if shipped:
        click.echo("\nits text:\n")
        click.echo("".join(f"  {line}\n" for line in shipped_text(name).splitlines()), nl=False)


def _lists(procedure: Procedure) -> dict[str, tuple[Step, ...]]:
    """The lists of steps that there are, each with what it is for."""
    lists = {
        "steps": procedure.steps,
        "push": procedure.push,
        "push_confirm, over a new connection": procedure.push_confirm,
    }
    return {heading: steps for heading, steps in lists.items() if steps}


def _steps(steps: tuple[Step, ...]) -> Iterator[str]:
    for place, step in walk(steps):
        depth = place.count("steps")
        number = int(place[-1]) + 1
        yield f"{'  ' * depth}{number}. {step}{_clauses(step)}"


def _clauses(step: Step) -> str:
    shown = {name: value for name, value in step.clauses.items() if name not in _LONG}
    words = [f"{name} {value}" if isinstance(value, str) else name for name, value in shown.items()]
    return f"  ({', '.join(words)})" if words else ""
