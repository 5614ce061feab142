"""`historon notices`: what it shows."""

from collections import Counter
from collections.abc import Mapping, Sequence
from datetime import datetime

import click
import msgspec

from historon.base.errors import UsageError
from historon.base.quantities import size_text
from historon.cli.conditions import conditions_data, print_conditions
from historon.cli.output import count, instant, print_json, print_table, printable, table
from historon.cli.styled import Text
from historon.estate import Channel, Estate
from historon.notices import Event, Letter
from historon.store import Notice, NoticeState, Pending, Store
from historon.timetable import OpenCondition

__all__ = ["show_channels", "show_history", "show_notice"]

_STYLES = {
    NoticeState.SENT: "green",
    NoticeState.QUEUED: "yellow",
    NoticeState.REFUSED: "red",
    NoticeState.EXPIRED: "red",
}


def show_notice(store: Store, number: int, estate: Estate, *, as_json: bool) -> None:
    """A notice of the history, as it was sent."""
    notice = store.outbox.notice(number)
    if notice is None:
        raise UsageError(f"there is no notice {number}", hint="historon notices history")
    letter = msgspec.json.decode(notice.letter, type=Letter)
    if as_json:
        rows = [one.data for one in letter.events]
        attachments = [{"name": one.name, "size_bytes": len(one.content)} for one in letter.attachments]
        print_json("notice", notice.subject, rows, **_notice_row(notice), text=letter.text, attachments=attachments)
        return
    click.echo(f"{notice.channel}, {instant(notice.at, estate.zone, named=True)}, {_fate(notice, estate)}")
    click.echo(f"{printable(notice.subject)}\n")
    for line in letter.text.splitlines():
        click.echo(printable(line))
    for one in letter.attachments:
        click.echo(f"attached: {printable(one.name)}, {size_text(len(one.content))}")


def show_history(notices: Sequence[Notice], estate: Estate, *, as_json: bool) -> None:
    """The notices that were sent, the newest first."""
    headline = f"{count(len(notices), 'notice')}, the newest first" if notices else "no notice was sent yet"
    if as_json:
        print_json("notices-history", headline, [_notice_row(one) for one in notices])
        return
    click.echo(headline)
    made = table(
        "notice",
        f"at ({estate.zone.key})",
        "channel",
        "state",
        "subject",
        "answer",
        right=("notice",),
        wrap=("subject", "answer"),
    )
    for one in notices:
        fate = Text(one.fate, _STYLES[one.fate])
        answer = one.answer or ""
        if one.fate is NoticeState.SENT and "refused for" not in answer:
            answer = ""  # that all went well needs no words
        cells = map(printable, (one.subject, answer))
        made.add_row(str(one.number), instant(one.at, estate.zone), one.channel, fate, *cells)
    if notices:
        print_table(made)


def _notice_row(notice: Notice) -> dict[str, object]:
    return {
        "notice": notice.number,
        "channel": notice.channel,
        "at": notice.at,
        "state": notice.fate,
        "tries": notice.tries,
        "next_try": notice.next,
        "subject": notice.subject,
        "answer": notice.answer,
        "remaining": notice.remaining,
    }


def show_channels(estate: Estate, store: Store, conditions: "Sequence[OpenCondition]", *, as_json: bool) -> None:
    """The channels, what waits for them, and what is open now."""
    waiting, pending, last = store.outbox.waiting(), store.outbox.pending(), store.outbox.last_sent()
    headline = _headline(estate, waiting, pending)
    if as_json:
        print_json(
            "notices",
            headline,
            [_channel_row(name, one, last.get(name)) for name, one in estate.channels.items()],
            queued=[_notice_row(one) for one in waiting],
            pending=[{"channel": one.channel, "due": one.due, **_event(one)} for one in pending],
            conditions=conditions_data(conditions),
        )
        return
    click.echo(headline)
    made = table(
        "channel",
        "kind",
        f"last notified ({estate.zone})",
        "reports",
        "when",
        "where",
        wrap=("reports", "when", "where"),
    )
    for name, one in estate.channels.items():
        told = last.get(name)
        words = [_tells(one), _when(one), one.goes_to]
        when = instant(told, estate.zone) if told else "never"
        made.add_row(name, one.kind, when, *map(printable, words))
    if estate.channels:
        print_table(made)
    if estate.settings.heartbeat:
        click.echo(f"heartbeat: the address in {estate.settings.heartbeat} is requested after each good round")
    for notice in waiting:
        click.echo(f"\n{notice.channel}: notice {notice.number} {_fate(notice, estate)}")
        click.echo(f"  {printable(notice.subject)}\n  {printable(notice.answer or '')}")
    _print_pending(pending, estate, {one.channel for one in waiting})
    if conditions:
        click.echo("\nopen now:")
        print_conditions(estate, conditions)


def _headline(estate: Estate, waiting: Sequence[Notice], pending: Sequence[Pending]) -> str:
    if not estate.channels:
        return "no channel is set up: add one to [channels] in the estate file"
    told = count(len(estate.channels), "channel")
    stuck = f", {count(len(waiting), 'notice')} QUEUED AFTER A FAILURE" if waiting else ""
    later = f", {count(len(pending), 'event')} to be sent later" if pending else ""
    return f"{told}{stuck}{later}" if stuck or later else f"{told}, no notice is waiting"


def _channel_row(name: str, channel: Channel, last: datetime | None) -> dict[str, object]:
    return {
        "channel": name,
        "kind": channel.kind,
        "tell": channel.tell.split(),
        "except": channel.except_.split(),
        "labels": channel.where,
        "hours": channel.hours,
        "quiet": channel.quiet,
        "digest": channel.digest,
        "immediately": channel.immediately,
        "all_well_s": channel.all_well,
        "last_notified": last,
    }


def _print_pending(pending: Sequence[Pending], estate: Estate, blocked: set[str]) -> None:
    waits = Counter((one.channel, _until(one, estate, blocked)) for one in pending)
    if waits:
        click.echo("")
    for (channel, when), number in waits.items():
        click.echo(f"{channel}: {count(number, 'event')} {'waits' if number == 1 else 'wait'} {when}")


def _until(one: Pending, estate: Estate, blocked: set[str]) -> str:
    if one.channel in blocked:
        return "for the queued notice before"
    if one.round is not None:
        return f"until round {one.round} ends, {instant(one.due, estate.zone)} at the latest"
    return f"until {instant(one.due, estate.zone)}"


def _fate(notice: Notice, estate: Estate) -> str:
    if notice.fate is NoticeState.QUEUED and notice.next:
        left = f" for {', '.join(notice.remaining)}" if notice.remaining else ""
        again = instant(notice.next, estate.zone)
        return f"is queued{left}, after {count(notice.tries, 'try', 'tries')}; the next is at {again}"
    return notice.fate


def _event(pending: Pending) -> Mapping[str, object]:
    event = msgspec.json.decode(pending.event, type=Event)
    return {"kind": event.kind, "source": event.source, "message": event.message}


def _tells(channel: Channel) -> str:
    words = [channel.tell.replace(" ", ", ")]
    if channel.except_:
        words.append(f"except {channel.except_.replace(' ', ', ')}")
    words += [f"{label}={value}" for label, value in channel.where.items()]
    return "; ".join(words)


def _when(channel: Channel) -> str:
    words = ["immediately" if channel.immediately else "each round"]
    if channel.digest:
        words = [f"digest {channel.digest}"]
    if channel.hours:
        words.append(f"of {', '.join(channel.hours)}")
    if channel.quiet:
        words.append(f"not in {', '.join(channel.quiet)}")
    if channel.all_well:
        words.append(f"all well every {channel.all_well}")
    return "; ".join(words)
