"""`historon notices`."""

import click

from historon.cli.app import App, estate_option, example, json_option, pass_app
from historon.cli.output import print_json, print_table, printable, table
from historon.errors import UsageError
from historon.estate import (
    AnyChannel,
    CommandChannel,
    FileChannel,
    MailChannel,
    SyslogChannel,
    nearest,
)
from historon.notices import try_channel

__all__ = ["command"]


@click.command("notices", epilog=example("historon notices", "historon notices try operators"))
@click.argument("what", required=False, type=click.Choice(["try"]))
@click.argument("channel", required=False)
@estate_option
@json_option
@pass_app
def command(app: App, what: str | None, channel: str | None, estate_file: str | None, *, as_json: bool) -> None:
    """The channels, and whether they work.

    Lists where people and programs are told. `try CHANNEL` sends a test there and says what became of it; the exit code
    is 6 when it could not be told.
    """
    estate = app.estate(estate_file)
    if what is not None:
        if channel is None or channel not in estate.channels:
            hint = nearest(channel or "", estate.channels) or "write one in [channels] of the estate file"
            raise UsageError(f'there is no channel "{channel or ""}"', hint=hint)
        click.echo(f"{channel}: {printable(try_channel(estate.channels[channel], estate, app.clock()))}")
        return
    rows = [
        {"channel": name, "kind": one.__struct_config__.tag, "tells": one.tell, "where": _where(one)}
        for name, one in estate.channels.items()
    ]
    if as_json:
        print_json(rows)
        return
    made = table("channel", "kind", "tells", "where")
    for row in rows:
        made.add_row(*(printable(str(cell)) for cell in row.values()))
    print_table(made) if rows else click.echo("nobody is told: write a channel in [channels] of the estate file")
    if estate.settings.heartbeat:
        click.echo(f"after good rounds a sign of life goes to the address in {estate.settings.heartbeat}")


def _where(channel: AnyChannel) -> str:
    match channel:
        case MailChannel():
            return f"{', '.join(channel.to)} through {channel.server}"
        case SyslogChannel():
            return f"{channel.server} over {channel.over}"
        case CommandChannel():
            return " ".join(channel.command)
        case FileChannel():
            return channel.path
        case _:
            return f"the address in {channel.url}"
