"""Who is told of a round, and what became of it."""

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from datetime import datetime

from historon.collect import RoundReport
from historon.estate import Estate, MailChannel
from historon.notices.heartbeat import beat
from historon.notices.letters import Letter, Overdue, promise_letter, round_letter
from historon.notices.mail import NoticeError, send_mail
from historon.store import Outcome

__all__ = ["Told", "tell_promises", "tell_round"]


@dataclass(frozen=True)
class Told:
    """One channel's notice: sent when there is no trouble."""

    channel: str
    trouble: str | None = None


def tell_round(estate: Estate, report: RoundReport) -> Iterator[Told]:
    """Tell every channel that wants to hear of this round. Trouble with one is reported and harms nothing else."""
    for name, channel in estate.channels.items():
        if _wanted(channel, report):
            yield _sent(name, channel, round_letter(report, estate), estate, report.ended)
    if estate.settings.heartbeat and not _trouble(report):
        try:
            beat(estate.settings.heartbeat, estate.folder)
        except NoticeError as exc:
            yield Told("heartbeat", str(exc))


def tell_promises(estate: Estate, broken: Sequence[Overdue], kept: Sequence[str], at: datetime) -> Iterator[Told]:
    """Tell every channel of promises that broke, and of those that are kept again."""
    letter = promise_letter(broken, kept, estate, at)
    for name, channel in estate.channels.items():
        yield _sent(name, channel, letter, estate, at)


def _sent(name: str, channel: MailChannel, letter: Letter, estate: Estate, at: datetime) -> Told:
    try:
        send_mail(channel, letter, estate, at)
    except NoticeError as exc:
        return Told(name, str(exc))
    return Told(name)


def _trouble(report: RoundReport) -> bool:
    failed = report.count(Outcome.FAILED, Outcome.SUSPECT)
    return bool(report.store_trouble or report.interrupted or failed or report.broken)


def _wanted(channel: MailChannel, report: RoundReport) -> bool:
    changed = bool(report.count(Outcome.CHANGED, Outcome.FIRST))
    return channel.tell == "always" or _trouble(report) or (channel.tell == "changes" and changed)
