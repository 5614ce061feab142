"""`historon notices`."""

from collections.abc import Sequence

import click

from historon.cli.app import App, estate_option, example, json_option, pass_app
from historon.cli.output import printable
from historon.cli.views import notices as view
from historon.errors import ExitCode, UsageError
from historon.estate import Estate, nearest
from historon.notices import Delivery, NoticeError, shipped_template, try_channel
from historon.store import Store
from historon.timetable import open_conditions

__all__ = ["command"]

_DEAF = ("channel-failing", "heartbeat-failing")


@click.command(
    "notices",
    epilog=example(
        "historon notices",
        "historon notices try operators",
        "historon notices --history",
        "historon notices 41",
        "historon notices send",
    ),
)
@click.argument("what", required=False, metavar="[try CHANNEL | send | NUMBER]")
@click.argument("channel", required=False, metavar="")
@click.option("--history", is_flag=True, help="What was sent, newest first.")
@click.option("--last", default=20, show_default=True, type=click.IntRange(1), help="How many of them.")
@click.option("--template", type=click.Choice(["text", "html"]), help="Print a letter's template, to begin your own.")
@estate_option
@json_option
@pass_app
def command(
    app: App,
    what: str | None,
    channel: str | None,
    *,
    history: bool,
    last: int,
    template: str | None,
    estate_file: str | None,
    as_json: bool,
) -> int:
    """Who is notified of what, what is waiting to be sent, and what was sent.

    Lists the channels, and what is waiting. `try CHANNEL` sends a test there and reports the conversation; `send` sends
    what is waiting, now; a NUMBER of the history shows that notice. The exit code is 1 while a channel does not
    deliver, and 6 when something could not be sent.
    """
    if template:
        click.echo(shipped_template("letter.txt.j2" if template == "text" else "letter.html.j2"), nl=False)
        return ExitCode.WELL
    estate = app.estate(estate_file)
    if what == "try":
        return _try(app, estate, channel or "")
    with app.store(estate) as store:
        if what == "send":
            return _send(app, estate, store)
        if what is not None:
            view.show_notice(store, what, estate, as_json=as_json)
        elif history:
            view.show_history(store.outbox.last(last), estate, as_json=as_json)
        else:
            conditions = open_conditions(estate, store, app.clock())
            view.show_channels(estate, store, conditions, as_json=as_json)
            return ExitCode.FOUND if any(one.kind in _DEAF for one in conditions) else ExitCode.WELL
    return ExitCode.WELL


def _try(app: App, estate: Estate, name: str) -> int:
    if name not in estate.channels:
        hint = nearest(name, estate.channels) or "write one in [channels] of the estate file"
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
        click.echo("nothing is waiting to be sent")
    if any(one.trouble for one in told):
        return ExitCode.OUTSIDE
    return ExitCode.WELL
