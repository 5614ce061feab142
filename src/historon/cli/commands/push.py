"""`historon push`."""

import sys
from collections.abc import Sequence

import click

from historon.api import Estate, Pushed, PushPlan, Version
from historon.base.errors import ExitCode, UsageError
from historon.cli.app import App, estate_option, example, json_option, pass_app, reveal_option, where_option
from historon.cli.views import push as view

__all__ = ["command"]


@click.command(
    "push",
    epilog=example(
        "historon push edge-1@17",
        "historon push files@2026-06-14 --only etc/app.conf",
        "historon push edge-1@17 --confirm 3fa91c0b77d2",
        "historon push edge-1@17 --lines",
        "historon push --where site=northmole --at 2026-06-14",
    ),
)
@click.argument("versions", nargs=-1, metavar="[SOURCE@WHEN]...")
@where_option
@click.option("--at", metavar="WHEN", help="Push each source's last good version as of WHEN.")
@click.option("--only", metavar="PATH", help="Push only this part, folder of parts, or path of the outline of texts.")
@click.option(
    "--confirm",
    "digests",
    metavar="DIGEST",
    multiple=True,
    help="Push without asking if the change has this digest; repeatable.",
)
@click.option(
    "--lines",
    is_flag=True,
    help="Print the commands that would turn the last good version into this one. Changes nothing.",
)
@reveal_option
@estate_option
@json_option
@pass_app
def command(
    app: App,
    versions: tuple[str, ...],
    where: tuple[str, ...],
    at: str | None,
    only: str | None,
    digests: tuple[str, ...],
    *,
    lines: bool,
    reveal: bool,
    estate_file: str | None,
    as_json: bool,
) -> int:
    """Push a version to its source, by the `push` steps of its procedure.

    The source is collected first. Then everything that would be sent is shown: each command to enter, and each file.
    You confirm by typing the source's name; a script gives the digest. After the steps the source is collected again
    and compared with the version, ignoring noise. Several sources are pushed one after another, each confirmed; the
    first that does not match ends the command. The exit code is 0 when all match, and 1 when
    one does not or nothing was confirmed. It is 6 when a push failed or its result is unknown.
    """
    with app.opened(estate_file) as opened:
        found = _chosen(opened, versions, where, at)
        if as_json and len(found) > 1:
            raise UsageError("--json takes one source", hint="name one source")
        for number, one in enumerate(found, 1):
            if lines:
                view.print_typed(one.lines(only=only, reveal=reveal), as_json=as_json)
                continue
            if len(found) > 1:
                click.echo(f"{number} of {len(found)}: {one.source}")
            code = _push(opened, one, only, digests, as_json=as_json)
            if code:
                for later in found[number:]:
                    click.echo(f"{later.source}: not pushed, as {one.source} is not as wanted", err=True)
                return code
        return ExitCode.WELL


def _chosen(opened: Estate, versions: Sequence[str], where: Sequence[str], at: str | None) -> list[Version]:
    """The versions to push, in the order given, else in that of the estate file."""
    if not versions and not where:
        raise UsageError("no source is named", hint="historon push SOURCE@WHEN")
    if any("@" in one for one in versions) and at is not None:
        raise UsageError("SOURCE@WHEN and --at both give a time", hint="omit one of them")
    names = [one.name for one in opened.select(*versions, where=where)] if where else versions
    return [opened.version(f"{one}@{at}" if at is not None else one) for one in names]


def _push(opened: Estate, version: Version, only: str | None, digests: Sequence[str], *, as_json: bool) -> int:
    if not version.good:
        name = str(version)
        raise UsageError(f"{name} is suspect", hint=f"historon vouch {name} once you have looked at it")
    plan = version.plan_push(only=only)
    if not as_json:
        view.print_plan(opened, plan)
    if not plan.needed or not _is_confirmed(plan, digests, as_json=as_json):
        if as_json:
            view.print_data(opened, plan, None)
        return ExitCode.FOUND if plan.needed else ExitCode.WELL
    done = plan.push()
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


def _is_confirmed(plan: PushPlan, digests: Sequence[str], *, as_json: bool) -> bool:
    source = plan.wanted.source
    if digests:
        if plan.digest not in digests:
            message = f"the change of {source} is {plan.digest} now, not {digests[0]}: nothing was pushed to it"
            raise UsageError(message, hint="look at it again without --confirm")
        return True
    if as_json or not sys.stdin.isatty():
        if not as_json:
            click.echo(f"nothing was pushed; to push: --confirm {plan.digest}")
        return False
    typed = click.prompt(f"This changes {source}. Type its name to confirm", default="", show_default=False)
    if typed.strip() != source:
        click.echo("nothing was pushed")
        return False
    return True
