"""Who is told of a round, and what became of it."""

from collections.abc import Iterator
from dataclasses import dataclass

from historon.collect import RoundReport
from historon.estate import Estate, MailChannel
from historon.notices.letters import round_letter
from historon.notices.mail import NoticeError, send_mail
from historon.store import Outcome

__all__ = ["Told", "tell_round"]


@dataclass(frozen=True)
class Told:
    """One channel's notice: sent when there is no trouble."""

    channel: str
    trouble: str | None = None


def tell_round(estate: Estate, report: RoundReport) -> Iterator[Told]:
    """Tell every channel that wants to hear of this round. Trouble with one is reported and harms nothing else."""
    for name, channel in estate.channels.items():
        if _wanted(channel, report):
            try:
                send_mail(channel, round_letter(report, estate), estate, report.ended)
            except NoticeError as exc:
                yield Told(name, str(exc))
            else:
                yield Told(name)


def _wanted(channel: MailChannel, report: RoundReport) -> bool:
    trouble = bool(
        report.store_trouble or report.interrupted or report.count(Outcome.FAILED, Outcome.SUSPECT) or report.broken
    )
    changed = bool(report.count(Outcome.CHANGED, Outcome.FIRST))
    return channel.tell == "always" or trouble or (channel.tell == "changes" and changed)
