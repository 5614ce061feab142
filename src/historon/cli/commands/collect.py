"""`historon collect`."""

import signal
from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager
from functools import partial

import click

from historon.api import find_estate_file
from historon.base.errors import ExitCode
from historon.cli.app import App, estate_option, example, json_option, pass_app, where_option
from historon.cli.views import collect as view
from historon.collect import OfferedKey, RoundReport
from historon.estate import EstateError
from historon.notices import DeliveryResult
from historon.store import open_store

__all__ = ["command"]


@click.command(
    "collect", epilog=example("historon collect", "historon collect edge-1", "historon collect --where site=northmole")
)
@click.argument("names", nargs=-1, metavar="[SOURCE]...")
@where_option
@click.option("--unfinished", is_flag=True, help="Collect only sources that the interrupted last round did not reach.")
@click.option("--trust-first-contact", is_flag=True, help="Accept host keys that are shown for the first time.")
@click.option("-v", "--verbose", count=True, help="Show each step; -vv shows its answer too, with secrets masked.")
@estate_option
@json_option
@pass_app
def command(
    app: App,
    names: tuple[str, ...],
    where: tuple[str, ...],
    *,
    unfinished: bool,
    trust_first_contact: bool,
    verbose: int,
    estate_file: str | None,
    as_json: bool,
) -> int:
    """Collect from sources now, in one round.

    The outcome of a source is new, changed, unchanged, suspect (stored, but set aside), failed or skipped. The exit
    code is 0 when all is well, and 3 when a source failed or is suspect. It is 5 when the store is in trouble, and 6
    when only a notice could not be sent.
    """
    with _reporting_refusal(app, estate_file), app.opened(estate_file, tell_paused=False) as opened:
        sources = opened.sources(*names, where=where)
        if unfinished and sources and not (sources := opened.unfinished(*names, where=where)):
            click.echo("the last round was not interrupted: nothing is left to collect")
            return ExitCode.WELL
        with view.Shown(len(sources) or 1, quiet=as_json, verbose=verbose) as shown:
            done = opened.collect(
                *(source.name for source in sources if unfinished or names or where),
                observer=shown.tell,
                stopped_by=[signal.SIGTERM],
                trust=partial(_confirm_keys, app, shown, trust=trust_first_contact),
            )
    report, told = done.report, done.notices
    if as_json:
        view.print_data(report, told)
    else:
        view.print_end(report, told)
    return _exit_code(report, told)


@contextmanager
def _reporting_refusal(app: App, estate_file: str | None) -> Iterator[None]:
    """Report an invalid estate file to those whom the last accepted one names: cron alone may reach nobody."""
    try:
        yield
    except EstateError as exc:
        from historon.timetable.acceptance import report_refused

        for result in report_refused(find_estate_file(estate_file), exc, open_store, app.clock):
            if result.trouble:
                click.echo(f"historon: notice not sent to {result.channel}: {result.trouble}", err=True)
        raise


def _confirm_keys(app: App, shown: view.Shown, offered: Mapping[str, OfferedKey], *, trust: bool) -> bool:
    """Ask about host keys shown for the first time."""
    if not (trust or app.interactive):
        return False
    shown.end()
    click.echo("\nNew host keys. Compare each with the key that the device's own console shows:")
    for name, key in offered.items():
        click.echo(f"  {name:<24}{key.algorithm}  {key.fingerprint}")
    return trust or click.confirm(f"Trust {'this key' if len(offered) == 1 else 'these keys'} and collect now?")


def _exit_code(report: RoundReport, told: Sequence[DeliveryResult]) -> ExitCode:
    if report.store_trouble:
        return ExitCode.STORE
    if report.interrupted:
        return ExitCode.INTERRUPTED
    if report.in_trouble:
        return ExitCode.SOURCES
    if any(one.trouble for one in told):
        return ExitCode.OUTSIDE
    return ExitCode.WELL
