"""`historon requirements`."""

import click

from historon.base.errors import ExitCode
from historon.cli.app import App, estate_option, example, json_option, pass_app, where_option
from historon.cli.output import print_json
from historon.cli.views import requirements as view
from historon.estate import RequirementState

__all__ = ["command"]


@click.command(
    "requirements",
    epilog=example(
        "historon requirements", "historon requirements edge-1", "historon requirements --where role=edge --json"
    ),
)
@click.argument("names", nargs=-1, metavar="[SOURCE]...")
@where_option
@estate_option
@json_option
@pass_app
def command(app: App, names: tuple[str, ...], where: tuple[str, ...], *, estate_file: str | None, as_json: bool) -> int:
    """Check sources against the requirements of the estate file.

    Checks the latest good version of each source against [[requirements]]. Rounds do the same, and report when one is
    no longer met, and when it is met again. The exit code is 1 when one is not met or unknown. It is unknown when a
    source has no good version, when a part cannot be read, or when the rule's `part` or `each` matches nothing.
    """
    with app.opened(estate_file) as opened:
        found = opened.requirements(*names, where=where)
        without = len(opened.select(*names, where=where)) - len(found)
    estate = opened.described
    headline = view.headline(estate, found, without)
    if as_json:
        print_json("requirements", headline, [view.as_data(one) for one in found])
    else:
        view.print_all(estate, found, headline)
    if all(one.state is RequirementState.MET for one in found):
        return ExitCode.WELL
    return ExitCode.FOUND
