"""A duty of the service: to send the notices that are due."""

import asyncio
from datetime import datetime, timedelta

from historon.base.errors import StoreError
from historon.base.threads import StillBusyError, apart
from historon.estate import Estate, describe
from historon.notices import NoticeError, Outgoing, Sent, send
from historon.timetable.beside import Beside
from historon.timetable.desk import LOG, Desk

__all__ = ["Sending"]

_SEND = timedelta(minutes=1)  # for one notice on one channel
_TASK = "sending"


class Sending:
    """Sends what is due, beside everything else: one channel that is slow does not hold up the rounds."""

    def __init__(self, desk: Desk) -> None:
        self._desk = desk
        self._own = Beside()  # neither pauses nor the end of one pass wait for it

    def look(self, now: datetime) -> None:
        """Begin to send what is due, unless that is going on. Raises StoreError."""
        self._own.take_up(_TASK)
        self._desk.notifier.catch_up()
        if not self._own.has(_TASK) and self._desk.notifier.delivery.has_due(now):
            self._own.begin(_TASK, self._send_due())

    async def _send_due(self) -> None:
        desk, delivery = self._desk, self._desk.notifier.delivery
        outgoing, estate, now = delivery.outgoing(), desk.estate, desk.clock()
        results = await asyncio.gather(*(_sent(one, estate, now) for one in outgoing))
        for one, result in zip(outgoing, results, strict=True):
            try:
                desk.note_sent(delivery.settle(one, result))
            except StoreError as exc:
                LOG.error("the result of a notice to %s could not be recorded yet: %s", one.name, exc)
        desk.figures.waiting = delivery.waiting()

    async def finish(self, within: timedelta) -> None:
        """Send what is due before the end, as far as that goes in this time; what is left is in the outbox."""
        try:
            async with asyncio.timeout(within.total_seconds()):
                for task in self._own.tasks():
                    await task
                await self._send_due()
        except TimeoutError:
            LOG.warning("not all notices were sent; they will be sent when a service runs again")


async def _sent(one: Outgoing, estate: Estate, now: datetime) -> Sent | NoticeError:
    """The result for one notice, within a time after which the others are not kept waiting."""
    own = one.channel.takes
    try:
        async with asyncio.timeout((_SEND + own).total_seconds()):
            return await apart(f"channel {one.name}", send, one, estate, now)
    except TimeoutError:
        return NoticeError(f"it took longer than {describe(_SEND + own)}", hint="it will be tried again")
    except StillBusyError as exc:
        return NoticeError(exc.words, hint="it will be tried again")
