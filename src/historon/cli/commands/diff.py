"""`historon diff`."""

import sys

import click

from historon.api.comparing import NoChangeError
from historon.base.errors import ExitCode, UsageError
from historon.cli.app import (
    App,
    estate_option,
    example,
    json_option,
    pass_app,
    reveal_option,
    where_option,
)
from historon.cli.differences import part_data
from historon.cli.outliers import print_typical
from historon.cli.output import print_json, warn_if_suspect
from historon.cli.views import diff as view

__all__ = ["command"]

_FORMS = ("lines", "side", "outline", "html")


@click.command(
    "diff",
    epilog=example(
        "historon diff edge-1",
        "historon diff edge-1@3d --form outline",
        "historon diff edge-1@17 edge-1@21 --only 'access-list quay-in'",
        "historon diff edge-1 edge-2 --form html > page.html",
        "historon diff file:golden.cfg edge-1",
        "historon diff --where role=edge",
    ),
)
@click.argument("old", metavar="[A]", required=False)
@click.argument("new", metavar="[B]", required=False)
@where_option
@click.option(
    "--form", type=click.Choice(_FORMS), help="Form of the output. [default: lines for texts, outline for documents]"
)
@click.option("--only", metavar="PATH", help="Compare only this part, or this path of the outline.")
@click.option(
    "-C",
    "--context",
    metavar="N",
    default=3,
    show_default=True,
    type=click.IntRange(0),
    help="Number of lines around each change.",
)
@click.option("--ignore-case", is_flag=True, help="Ignore upper and lower case.")
@click.option("--ignore-space", is_flag=True, help="Ignore white space.")
@click.option("--with-noise", is_flag=True, help="Compare masked noise too.")
@reveal_option
@estate_option
@json_option
@pass_app
def command(
    app: App,
    old: str | None,
    new: str | None,
    where: tuple[str, ...],
    form: str | None,
    only: str | None,
    context: int,
    *,
    ignore_case: bool,
    ignore_space: bool,
    with_noise: bool,
    reveal: bool,
    estate_file: str | None,
    as_json: bool,
) -> int:
    """Compare two versions, or two sources.

    A and B are SOURCE or SOURCE@WHEN; one of them may be file:PATH. With one SOURCE only: its last change. With one
    SOURCE@WHEN only: from then to its latest version. With --where only: sources that differ from the majority. A piped
    diff is a unified diff that `patch` applies; noise is ignored and secrets are masked. The exit code is 1 when there
    are differences, and 0 when there are none.
    """
    if where:
        if old is not None:
            raise UsageError("--where compares sources with each other", hint="give A and B, or --where, not both")
        with app.opened(estate_file) as opened:
            return print_typical(opened.typical(where=where), as_json=as_json)
    if old is None:
        raise UsageError("nothing to compare", hint="historon diff SOURCE, or historon diff --where label=value")
    with app.opened(estate_file) as opened:
        try:
            found = opened.diff(
                old,
                new,
                only=only,
                reveal=reveal,
                with_noise=with_noise,
                ignore_case=ignore_case,
                ignore_space=ignore_space,
            )
        except NoChangeError as exc:
            _print_nothing(exc.message, old, as_json=as_json)
            return ExitCode.WELL
    for side in (found.before, found.after):
        if side.version is not None:
            warn_if_suspect(side.version)
    zone = opened.zone
    if as_json:
        rows = [part_data(change, context, found.weights) for change in found.parts]
        print_json("diff", view.headline(found), rows, old=found.before.name, new=found.after.name)
    elif form == "html":
        view.print_page(found, context, zone)
    elif form or sys.stdout.isatty():
        view.print_changes(found, form, context, zone)
    else:
        view.print_patch(found, context, zone)
    return ExitCode.FOUND if found.parts else ExitCode.WELL


def _print_nothing(message: str, source: str, *, as_json: bool) -> None:
    if as_json:
        print_json("diff", message, [], old=source, new=source)
    else:
        click.echo(message, err=not sys.stdout.isatty())  # a piped diff stays empty
