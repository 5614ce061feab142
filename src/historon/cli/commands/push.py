"""`historon push`."""

import sys
from collections.abc import Sequence

import click

from historon.api import Historon, Pushed, PushPlan
from historon.cli.app import App, estate_option, example, json_option, pass_app, reveal_option
from historon.cli.differences import part_data, print_lines, print_outline
from historon.cli.output import count, instant, print_json, printable
from historon.compare import How, Kind, PartChange
from historon.errors import ExitCode, UsageError
from historon.insight import Weights

__all__ = ["command"]

_CONTEXT = 3


@click.command(
    "push",
    epilog=example(
        "historon push edge-1@17",
        "historon push files@2026-06-14 --only etc/app.conf",
        "historon push edge-1@17 --yes 3fa91c0b77d2",
        "historon push edge-1@17 --lines",
    ),
)
@click.argument("version", metavar="SOURCE@WHEN")
@click.option(
    "--only", metavar="TEXT", help="Only this part, a folder of parts, or this place in the outline of texts."
)
@click.option(
    "--yes", "digest", metavar="DIGEST", help="Do it without asking, if the change is the one with this digest."
)
@click.option("--lines", is_flag=True, help="Show the lines that lead there from the last good version; do nothing.")
@reveal_option
@estate_option
@json_option
@pass_app
def command(
    app: App,
    version: str,
    only: str | None,
    digest: str | None,
    *,
    lines: bool,
    reveal: bool,
    estate_file: str | None,
    as_json: bool,
) -> int:
    """Bring a source back to a version, by the `push` steps of its procedure.

    It is collected first, the change that would be made is shown, and the source's name has to be typed; a script
    gives the change's digest instead. Then the steps are taken, it is collected again, and what it holds is compared:
    noise aside, is it as in the version? The exit code is 0 when it is, 1 when not, or when nothing was confirmed,
    6 when it failed, or cannot be told.
    """
    with app.opened(estate_file) as opened:
        found = opened.version(version)
        if lines:
            return _show_lines(opened, version, only, reveal=reveal, as_json=as_json)
        if not found.good:
            raise UsageError(f"{found.source}@{found.number} is no good version", hint="historon suspects")
        plan = opened.plan_push(found, only=only)
        if not as_json:
            _show_plan(opened, plan)
        if not plan.needed or not _is_confirmed(plan, digest, as_json=as_json):
            if as_json:
                _print_data(opened, plan, None)
            return ExitCode.FOUND if plan.needed else ExitCode.WELL
        done = opened.push(plan)
        if as_json:
            _print_data(opened, plan, done)
        else:
            _show(done, opened.weights)
        return _code(done)


def _code(done: Pushed) -> int:
    if done.well:
        return ExitCode.WELL
    if done.failure is not None or done.left is None:
        return ExitCode.OUTSIDE
    return ExitCode.FOUND


def _show_plan(opened: Historon, plan: PushPlan) -> None:
    zone, source = opened.estate.zone, opened.estate.sources[plan.wanted.source]
    wanted = f"{source.name}@{plan.wanted.number}"
    if not plan.needed:
        click.echo(f"{printable(plan.what)} is as in {wanted} already, noise not counted: nothing is to be done")
        return
    when = instant(plan.wanted.at, zone, named=True)
    click.echo(f"{source.name} was collected just now: it is {source.name}@{plan.present.number}.")
    if not plan.present.good:
        click.secho("That export looks wrong, and was set aside: is it what the source really holds?", fg="yellow")
    piece = f"{printable(plan.only)} of " if plan.only is not None else ""
    click.echo(f"To bring back {piece}{wanted} of {when} changes:\n")
    _show_changes(plan.difference.parts, opened.weights)
    typed = sum(map(len, plan.lines.values()))
    if plan.lines:
        click.echo(f"{count(typed, 'line')} would be typed (--lines shows lines like these)")
    kept = [one.name for one in plan.difference.parts if one.name not in plan.contents and one.kind is Kind.REMOVED]
    for name in kept:
        click.echo(f"{printable(name)} was not there then: it stays, and is told of as still different")
    click.echo(f"digest of this change: {plan.digest}")


def _show_changes(parts: Sequence[PartChange], weights: Weights) -> None:
    for change in parts:
        if change.edits and not change.structured:
            print_lines(change, _CONTEXT, weights)
        else:
            print_outline(change, weights)


def _is_confirmed(plan: PushPlan, digest: str | None, *, as_json: bool) -> bool:
    source = plan.wanted.source
    if digest is not None:
        if digest != plan.digest:
            message = f"the change is {plan.digest} now, not {digest}: nothing was pushed"
            raise UsageError(message, hint="look at it again without --yes")
        return True
    if as_json or not sys.stdin.isatty():
        if not as_json:
            click.echo(f"nothing was pushed: --yes {plan.digest} does it")
        return False
    typed = click.prompt(f"This changes {source}. Type its name to do it", default="", show_default=False)
    if typed.strip() != source:
        click.echo("nothing was pushed")
        return False
    return True


def _show(done: Pushed, weights: Weights) -> None:
    wanted = done.plan.wanted
    name, what = f"{wanted.source}@{wanted.number}", printable(done.plan.what)
    if done.failure is not None:
        click.secho(f"THE PUSH FAILED: {printable(str(done.failure))}", fg="red", err=True)
        if done.failure.hint:
            click.echo(f"  try: {printable(done.failure.hint)}", err=True)
        if done.failure.tail:
            click.echo(f"  it said: {printable(done.failure.tail.strip())}", err=True)
    if done.left is None:
        click.secho(f"it is NOT KNOWN what {wanted.source} holds now: {printable(done.unknown)}", fg="red", err=True)
    elif not done.left.parts:
        click.secho(f"{what} is as in {name}, noise not counted", fg="green")
    else:
        only_moved = all(_only_moved(part) for part in done.left.parts)
        told = "It holds all of it, in another order" if only_moved else "Still different"
        click.secho(f"{what} is NOT as in {name}. {told}, from now to then:\n", fg="red")
        _show_changes(done.left.parts, weights)
    click.echo(f"to go back: {done.plan.way_back}")


def _only_moved(part: PartChange) -> bool:
    return bool(part.changes) and all(change.how is How.MOVED for change in part.changes)


def _show_lines(opened: Historon, version: str, only: str | None, *, reveal: bool, as_json: bool) -> int:
    found = opened.lines_to(version, only=only, reveal=reveal)
    shown = {part: lines for part, lines in found.items() if lines}
    if as_json:
        rows = [{"part": part, "lines": lines} for part, lines in shown.items()]
        print_json("push-lines", f"{sum(map(len, shown.values()))} lines", rows)
        return ExitCode.WELL
    for part, lines in shown.items():
        if len(shown) > 1:
            click.echo(f"# {printable(part)}")
        for line in lines:
            click.echo(printable(line))
    if any("[secret " in line for lines in shown.values() for line in lines):
        click.echo("secrets are hidden: --reveal shows them", err=True)
    return ExitCode.WELL


def _print_data(opened: Historon, plan: PushPlan, done: Pushed | None) -> None:
    wanted, rows = plan.wanted, [part_data(one, _CONTEXT, opened.weights) for one in plan.difference.parts]
    left = None
    if done is not None and done.left is not None:
        left = [part_data(one, _CONTEXT, opened.weights) for one in done.left.parts]
    if done is None:
        headline = "needed" if plan.needed else "nothing is to be done"
    else:
        headline = "as wanted" if done.well else "NOT as wanted"
    print_json(
        "push",
        f"{wanted.source}@{wanted.number}: {headline}",
        rows,
        source=wanted.source,
        wanted=wanted.number,
        present=plan.present.number,
        digest=plan.digest,
        pushed=done is not None,
        well=done.well if done else None,
        failure=str(done.failure) if done and done.failure else None,
        left=left,
        way_back=plan.way_back,
    )
