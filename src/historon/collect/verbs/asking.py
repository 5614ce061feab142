"""Steps that say something and take a good answer: send, clock and tidy."""

from datetime import datetime
from typing import Any
from zoneinfo import ZoneInfo

from historon.collect.dates import told_instant
from historon.collect.failures import CollectError, FailureKind
from historon.collect.taking import Result, Taking
from historon.collect.transports.interface import Answer
from historon.estate import Clock, Judged

__all__ = ["take"]


async def take(taking: Taking, place: str, step: Judged[Any]) -> None:
    """See Taker."""
    await taking.single(place, step, _said)


async def _said(taking: Taking, step: Judged[Any]) -> Result:
    answer = await taking.answer(step)
    if isinstance(step, Clock):
        await _tell_time(taking, answer, step)
    return answer.content, ()


async def _tell_time(taking: Taking, answer: Answer, step: Clock[Any]) -> None:
    told = await taking.read(answer, _told, step.format, taking.around.zone)
    if told is None:
        raise CollectError(FailureKind.STEP, f"the answer has no time of the form {step.format}", tail=answer.tail)
    taking.session.skew = told - taking.around.clock()


def _told(answer: Answer, form: str, zone: ZoneInfo) -> datetime | None:
    return told_instant(answer.content.decode("utf-8", "replace"), form, zone)
