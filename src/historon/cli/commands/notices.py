"""`historon notices`."""

from collections.abc import Sequence

import click

from historon.base.errors import ExitCode, UsageError
from historon.cli.app import App, estate_option, example, json_option, pass_app
from historon.cli.output import printable
from historon.cli.views import notices as view
from historon.estate import Estate, nearest
from historon.notices import Delivery, NoticeError, shipped_template, try_channel
from historon.store import Store
from historon.timetable import open_conditions

__all__ = ["command"]

_DEAF = ("channel-failing", "heartbeat-failing")


@click.group(
    "notices",
    invoke_without_command=True,
    epilog=example(
        "historon notices", "historon notices try operators", "historon notices history", "historon notices show 41"
    ),
)
@estate_option
@json_option
@pass_app
def command(app: App, *, estate_file: str | None, as_json: bool) -> int:
    """List channels and notices; test a channel.

    Without a subcommand: list the channels and the waiting notices. The exit code is 1 while a channel does not
    deliver, and 6 when something could not be sent.
    """
    if click.get_current_context().invoked_subcommand is not None:
        return ExitCode.WELL
    estate = app.estate(estate_file)
    with app.store(estate) as store:
        conditions = open_conditions(estate, store, app.clock())
        view.show_channels(estate, store, conditions, as_json=as_json)
    return ExitCode.FOUND if any(one.kind in _DEAF for one in conditions) else ExitCode.WELL


@command.command("try", epilog=example("historon notices try operators"))
@click.argument("channel")
@estate_option
@pass_app
def try_one(app: App, channel: str, *, estate_file: str | None) -> int:
    """Send a test notice on a channel and report the conversation."""
    return _try(app, app.estate(estate_file), channel)


@command.command("send", epilog=example("historon notices send"))
@estate_option
@pass_app
def send(app: App, *, estate_file: str | None) -> int:
    """Send the waiting notices now."""
    estate = app.estate(estate_file)
    with app.store(estate) as store:
        return _send(app, estate, store)


@command.command("history", epilog=example("historon notices history --last 50"))
@click.option(
    "--last", metavar="N", default=20, show_default=True, type=click.IntRange(1), help="Number of notices to list."
)
@estate_option
@json_option
@pass_app
def history(app: App, last: int, *, estate_file: str | None, as_json: bool) -> None:
    """List notices that were sent, newest first."""
    estate = app.estate(estate_file)
    with app.store(estate) as store:
        view.show_history(store.outbox.last(last), estate, as_json=as_json)


@command.command("show", epilog=example("historon notices show 41"))
@click.argument("number", type=click.IntRange(1))
@estate_option
@json_option
@pass_app
def show(app: App, number: int, *, estate_file: str | None, as_json: bool) -> None:
    """Show a notice of the history as it was sent."""
    estate = app.estate(estate_file)
    with app.store(estate) as store:
        view.show_notice(store, number, estate, as_json=as_json)


@command.command("template", epilog=example("historon notices template text > letter.txt.j2"))
@click.argument("form", type=click.Choice(["text", "html"]))
def template(form: str) -> None:
    """Print a letter's template, as a start for your own."""
    click.echo(shipped_template("letter.txt.j2" if form == "text" else "letter.html.j2"), nl=False)


def _try(app: App, estate: Estate, name: str) -> int:
    if name not in estate.channels:
        hint = nearest(name, estate.channels) or "add one to [channels] in the estate file"
        raise UsageError(f'there is no channel "{name}"', hint=hint)
    try:
        sent = try_channel(estate.channels[name], estate, app.clock())
    except NoticeError as exc:
        _echo_lines(exc.conversation)
        raise
    _echo_lines(sent.conversation)
    click.echo(f"{name}: {printable(sent.answer)}")
    return ExitCode.OUTSIDE if sent.refused or sent.later else ExitCode.WELL


def _echo_lines(lines: Sequence[str]) -> None:
    for line in filter(None, lines):
        click.echo(f"  {printable(line)}")


def _send(app: App, estate: Estate, store: Store) -> int:
    store.outbox.hurry(app.clock())
    told = list(Delivery(estate, store, app.clock).deliver())
    for one in told:
        click.echo(f"{one.channel}: {printable(one.trouble or 'sent')}", err=bool(one.trouble))
    if not told:
        click.echo("no notice is waiting")
    if any(one.trouble for one in told):
        return ExitCode.OUTSIDE
    return ExitCode.WELL
