"""Who is told of a round, and what became of it."""

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from datetime import datetime
from html import escape

from historon.collect import RoundReport
from historon.estate import (
    AnyChannel,
    CommandChannel,
    Estate,
    FileChannel,
    MailChannel,
    SyslogChannel,
    WebhookChannel,
)
from historon.notices.events import Event, Overdue, Severity
from historon.notices.letters import Letter, promise_letter, round_letter
from historon.notices.mail import send_mail
from historon.notices.programs import NoticeError, request, run_command, send_syslog, send_webhook, write_file
from historon.store import Outcome

__all__ = ["Told", "tell_promises", "tell_round", "try_channel"]


@dataclass(frozen=True)
class Told:
    """One channel's notice: sent when there is no trouble."""

    channel: str
    trouble: str | None = None


def tell_round(estate: Estate, report: RoundReport) -> Iterator[Told]:
    """Tell every channel that wants to hear of this round. Trouble with one is reported and harms nothing else."""
    wanting = {name: channel for name, channel in estate.channels.items() if _wanted(channel, report)}
    if wanting:
        letter = round_letter(report, estate)
        for name, channel in wanting.items():
            yield _sent(name, channel, letter, estate, report.ended)
    if estate.settings.heartbeat and not _trouble(report):
        try:
            # A dead man's switch: silence raises the alarm elsewhere.
            request("heartbeat", "GET", estate.settings.heartbeat, estate)
        except NoticeError as exc:
            yield Told("heartbeat", str(exc))


def tell_promises(estate: Estate, broken: Sequence[Overdue], kept: Sequence[str], at: datetime) -> Iterator[Told]:
    """Tell every channel of promises that broke, and of those that are kept again."""
    letter = promise_letter(broken, kept, estate, at)
    for name, channel in estate.channels.items():
        yield _sent(name, channel, letter, estate, at)


def try_channel(channel: AnyChannel, estate: Estate, at: datetime) -> str:
    """Send a test; returns what became of it. Raises NoticeError."""
    words = f"This is a test of a channel of {estate.settings.name}. Nothing is wrong."
    event = Event("test", Severity.INFO, words, advice="historon notices")
    return _send(
        channel, Letter("A test, nothing is wrong", f"{words}\n", f"<p>{escape(words)}</p>", [event]), estate, at
    )


def _sent(name: str, channel: AnyChannel, letter: Letter, estate: Estate, at: datetime) -> Told:
    try:
        _send(channel, letter, estate, at)
    except NoticeError as exc:
        return Told(name, str(exc))
    return Told(name)


def _send(channel: AnyChannel, letter: Letter, estate: Estate, at: datetime) -> str:
    match channel:
        case MailChannel():
            return send_mail(channel, letter, estate, at)
        case WebhookChannel():
            return send_webhook(channel, letter, estate, at)
        case SyslogChannel():
            return send_syslog(channel, letter, estate, at)
        case CommandChannel():
            return run_command(channel, letter, estate, at)
        case FileChannel():
            return write_file(channel, letter, estate, at)


def _trouble(report: RoundReport) -> bool:
    failed = report.count(Outcome.FAILED, Outcome.SUSPECT)
    return bool(report.store_trouble or report.interrupted or failed or report.broken)


def _wanted(channel: AnyChannel, report: RoundReport) -> bool:
    changed = bool(report.count(Outcome.CHANGED, Outcome.FIRST))
    return channel.tell == "always" or _trouble(report) or (channel.tell == "changes" and changed)
