"""`historon push`."""

import sys

import click

from historon.api import Pushed, PushPlan
from historon.cli.app import App, estate_option, example, json_option, pass_app, reveal_option
from historon.cli.views import push as view
from historon.errors import ExitCode, UsageError

__all__ = ["command"]


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
            view.print_typed(opened.lines_to(version, only=only, reveal=reveal), as_json=as_json)
            return ExitCode.WELL
        if not found.good:
            raise UsageError(f"{found.source}@{found.number} is no good version", hint="historon suspects")
        plan = opened.plan_push(found, only=only)
        if not as_json:
            view.print_plan(opened, plan)
        if not plan.needed or not _is_confirmed(plan, digest, as_json=as_json):
            if as_json:
                view.print_data(opened, plan, None)
            return ExitCode.FOUND if plan.needed else ExitCode.WELL
        done = opened.push(plan)
        if as_json:
            view.print_data(opened, plan, done)
        else:
            view.print_pushed(done, opened.weights)
        return _code(done)


def _code(done: Pushed) -> int:
    if done.well:
        return ExitCode.WELL
    if done.failure is not None or done.left is None:
        return ExitCode.OUTSIDE
    return ExitCode.FOUND


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
