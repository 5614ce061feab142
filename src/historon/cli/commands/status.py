"""`historon status`."""

import time

import click

from historon.base.errors import ExitCode, UsageError
from historon.cli.app import App, estate_option, example, json_option, pass_app, where_option
from historon.cli.output import printable
from historon.cli.views import status as view

__all__ = ["command"]


@click.command(
    "status",
    epilog=example(
        "historon status",
        "historon status --where site=northmole",
        "historon status --by site",
        "historon status --watch",
    ),
)
@click.argument("names", nargs=-1, metavar="[SOURCE]...")
@where_option
@click.option("--all", "everything", is_flag=True, help="Show every source.")
@click.option("--by", metavar="LABEL", help="Show one line for each value of a label, such as site.")
@click.option(
    "--watch",
    is_flag=False,
    flag_value=10,
    type=click.IntRange(1),
    metavar="SECONDS",
    help="Refresh every SECONDS. [default: 10]",
)
@estate_option
@json_option
@pass_app
def command(
    app: App,
    names: tuple[str, ...],
    where: tuple[str, ...],
    *,
    everything: bool,
    by: str | None,
    watch: int | None,
    estate_file: str | None,
    as_json: bool,
) -> int:
    """Show whether everything is well, by exit code too.

    Shows open conditions first: copies, channels, timetables, the disk, the clock. Then shows the age of each source's
    last good version against its max_age, the worst first. The age counts from the instant when that version was made
    or last confirmed (found unchanged). The exit code is 1 when a condition is open, and 0 when none
    is, for the named sources or else for the whole estate.
    """
    while True:
        with app.opened(estate_file, tell_paused=False) as opened:
            estate = opened.described
            if by is not None and not any(by in source.labels for source in opened.select(*names, where=where)):
                raise UsageError(f'no source has the label "{by}"', hint="historon sources lists the labels")
            stands = opened.status(*names, where=where)
        if as_json:
            view.print_data(stands, by)
        elif not stands.sources and not stands.conditions:
            click.echo(f"no source yet: add one to {printable(str(estate.file))}")
        else:
            view.print_all(estate, stands, by, everything=everything, clear=watch is not None)
        if watch is None or as_json:
            return ExitCode.WELL if stands.well else ExitCode.FOUND
        time.sleep(watch)
