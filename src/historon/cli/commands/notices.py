"""`historon notices`."""

from collections.abc import Mapping, Sequence
from datetime import datetime

import click
import msgspec

from historon.cli.app import App, estate_option, example, json_option, pass_app
from historon.cli.output import count, instant, print_json, print_table, printable, table
from historon.errors import ExitCode, UsageError
from historon.estate import AnyChannel, CommandChannel, Estate, FileChannel, MailChannel, SyslogChannel, nearest
from historon.notices import Delivery, Event, Letter, NoticeError, shipped_template, try_channel
from historon.store import Fate, Notice, Pending, Store

__all__ = ["command"]

_STYLES = {Fate.SENT: "green", Fate.WAITING: "yellow", Fate.REFUSED: "red", Fate.EXPIRED: "red"}


@click.command(
    "notices",
    epilog=example(
        "historon notices", "historon notices try operators", "historon notices --history", "historon notices 41",
        "historon notices send",
    ),
)  # fmt: skip
@click.argument("what", required=False, metavar="[try CHANNEL | send | NUMBER]")
@click.argument("channel", required=False, metavar="")
@click.option("--history", is_flag=True, help="What was told, newest first.")
@click.option("--last", default=20, show_default=True, type=click.IntRange(1), help="How many of them.")
@click.option("--template", type=click.Choice(["text", "html"]), help="Print a letter's template, to begin your own.")
@estate_option
@json_option
@pass_app
def command(
    app: App, what: str | None, channel: str | None, *, history: bool, last: int, template: str | None,
    estate_file: str | None, as_json: bool,
) -> int:  # fmt: skip
    """Who is told, what waits to be told, and what was.

    Lists the channels, and what waits in the outbox. `try CHANNEL` sends a test there and reports the conversation;
    `send` sends what waits, now; a NUMBER of the history shows that notice. The exit code is 6 when something could not
    be told.
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
            _show(store, what, estate, as_json=as_json)
        elif history:
            _history(store.outbox.last(last), estate, as_json=as_json)
        else:
            _channels(estate, store, as_json=as_json)
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
        click.echo(f"{one.channel}: {printable(one.trouble) if one.trouble else 'told'}", err=bool(one.trouble))
    if not told:
        click.echo("nothing waits to be told now")
    return ExitCode.OUTSIDE if any(one.trouble for one in told) else ExitCode.WELL


def _show(store: Store, what: str, estate: Estate, *, as_json: bool) -> None:
    notice = store.outbox.notice(int(what)) if what.isdecimal() else None
    if notice is None:
        problem = f"there is no notice {what}" if what.isdecimal() else f'"{what}" is nothing to do here'
        raise UsageError(problem, hint="historon notices --history; or say try, or send")
    letter = msgspec.json.decode(notice.letter, type=Letter)
    if as_json:
        print_json({**_notice_row(notice), "text": letter.text})
        return
    click.echo(f"{notice.channel}, {instant(notice.at, estate.zone)}, {_fate(notice, estate)}")
    click.echo(f"{printable(notice.subject)}\n")
    for line in letter.text.splitlines():
        click.echo(printable(line))
    for one in letter.attachments:
        click.echo(f"attached: {printable(one.name)}, {len(one.content):,} bytes")


def _history(notices: Sequence[Notice], estate: Estate, *, as_json: bool) -> None:
    from rich.text import Text

    if as_json:
        print_json([_notice_row(one) for one in notices])
        return
    made = table(
        "notice",
        f"at ({estate.zone.key})",
        "channel",
        "fate",
        "subject",
        "answer",
        right=("notice",),
        wrap=("subject", "answer"),
    )
    for one in notices:
        fate = Text(one.fate, _STYLES[one.fate])
        # That all went well needs no words.
        answer = "" if one.fate is Fate.SENT and "refused for" not in (one.answer or "") else one.answer or ""
        cells = map(printable, (one.subject, answer))
        made.add_row(str(one.number), instant(one.at, estate.zone), one.channel, fate, *cells)
    print_table(made) if notices else click.echo("nobody was told anything yet")


def _notice_row(notice: Notice) -> dict[str, object]:
    return {
        "notice": notice.number, "channel": notice.channel, "at": notice.at, "fate": notice.fate, "tries": notice.tries,
        "next": notice.next, "subject": notice.subject, "answer": notice.answer, "remaining": notice.remaining,
    }  # fmt: skip


def _channels(estate: Estate, store: Store, *, as_json: bool) -> None:
    waiting, pending, last = store.outbox.waiting(), store.outbox.pending(), store.outbox.last_sent()
    rows = [
        {
            "channel": name, "kind": one.__struct_config__.tag, "tells": _tells(one), "when": _when(one),
            "where": _where(one), "last": last.get(name),
        } for name, one in estate.channels.items()
    ]  # fmt: skip
    if as_json:
        print_json({
            "channels": rows, "waiting": [_notice_row(one) for one in waiting],
            "pending": [{"channel": one.channel, "due": one.due, **_event(one)} for one in pending],
        })  # fmt: skip
        return
    made = table("channel", "kind", "tells", "when", "where", "last told", wrap=("tells", "when", "where"))
    for row in rows:
        told = last.get(str(row["channel"]))
        cells = [printable(str(cell)) for key, cell in row.items() if key != "last"]
        made.add_row(*cells, instant(told, estate.zone) if told else "never")
    print_table(made) if rows else click.echo("nobody is told: write a channel in [channels] of the estate file")
    if estate.settings.heartbeat:
        click.echo(f"after good rounds a sign of life goes to the address in {estate.settings.heartbeat}")
    for one in waiting:
        click.echo(f"\n{one.channel}: notice {one.number} {_fate(one, estate)}")
        click.echo(f"  {printable(one.subject)}\n  {printable(one.answer or '')}")
    _print_pending(pending, estate, {one.channel for one in waiting})


def _print_pending(pending: Sequence[Pending], estate: Estate, blocked: set[str]) -> None:
    by_due: dict[tuple[str, datetime], int] = {}
    for one in pending:
        by_due[one.channel, one.due] = by_due.get((one.channel, one.due), 0) + 1
    if by_due:
        click.echo("")
    for (channel, due), number in by_due.items():
        when = "behind the notice that waits" if channel in blocked else f"until {instant(due, estate.zone)}"
        click.echo(f"{channel}: {count(number, 'event')} {'waits' if number == 1 else 'wait'} {when}")


def _fate(notice: Notice, estate: Estate) -> str:
    if notice.fate is Fate.WAITING and notice.next:
        left = f" for {', '.join(notice.remaining)}" if notice.remaining else ""
        return f"waits{left}, tried {count(notice.tries, 'time')}, again at {instant(notice.next, estate.zone)}"
    return notice.fate


def _event(pending: Pending) -> Mapping[str, object]:
    event = msgspec.json.decode(pending.event, type=Event)
    return {"kind": event.kind, "source": event.source, "message": event.message}


def _tells(channel: AnyChannel) -> str:
    words = [channel.tell.replace(" ", ", ")]
    if channel.but_not:
        words.append(f"but not {channel.but_not.replace(' ', ', ')}")
    words += [f"{label}={value}" for label, value in channel.where.items()]
    return "; ".join(words)


def _when(channel: AnyChannel) -> str:
    words = [f"digest {channel.digest}"] if channel.digest else ["at once" if channel.at_once else "each round"]
    if channel.hours:
        words.append(f"of {', '.join(channel.hours)}")
    if channel.quiet:
        words.append(f"not in {', '.join(channel.quiet)}")
    if channel.all_well:
        words.append(f"all well every {channel.all_well}")
    return "; ".join(words)


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
