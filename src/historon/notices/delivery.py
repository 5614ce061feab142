"""Getting what waits in the outbox to the channels: written, sent, sent again, or given up with a trace."""

import asyncio
from collections import defaultdict
from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import dataclass, replace
from datetime import datetime, timedelta

import msgspec

from historon.base.errors import StoreError
from historon.collect import RoundReport
from historon.estate import Channel, Estate, describe
from historon.notices.attaching import attached
from historon.notices.channels import NoticeError, Sent, send_over
from historon.notices.channels.webhook import request
from historon.notices.events import Event, as_it_is_now
from historon.notices.letters import Letter, letter_of
from historon.notices.routing import AT_THE_LATEST, wants, when_awake
from historon.store import Notice, NoticeState, Pending, Store

__all__ = ["Delivery", "DeliveryResult", "Outgoing", "send", "send_past_the_store", "sign_of_life", "try_channel"]

_OURS = timedelta(minutes=10)  # how long a notice that is being sent is nobody else's
_FIRST_WAIT, _LONGEST_WAIT = timedelta(minutes=1), timedelta(hours=1)


@dataclass(frozen=True)
class Outgoing:
    """A notice that is to be sent now; without a `notice` it is one of events that the store did not take: `direct`."""

    name: str
    channel: Channel
    letter: Letter
    notice: Notice | None = None
    direct: Sequence[Pending] = ()


@dataclass(frozen=True)
class DeliveryResult:
    """What became of one notice on its channel: it was reported when there is no trouble; `waits` to be sent again."""

    channel: str
    trouble: str | None = None
    waits: bool = False


class Delivery:
    """Sends what is due. `past_the_store` is what the store did not take, and is reported anyway."""

    def __init__(self, estate: Estate, store: Store, clock: Callable[[], datetime]) -> None:
        self.estate = estate
        self.past_the_store: list[Pending] = []
        self._again_at: datetime | None = None  # when that is tried once more, where it could not be reported either
        self._unnoted: dict[int, Sent | NoticeError] = {}  # what became of notices that the store does not know yet
        self._store = store
        self._clock = clock

    def has_due(self, now: datetime) -> bool:
        """Whether there is anything to send."""
        if self.past_the_store and (self._again_at is None or self._again_at <= now):
            return True
        due = self._store.outbox.next_due()
        return due is not None and due <= now

    def heed_clock(self) -> None:
        """What was put off by a clock that ran ahead is not put off for so long by one that is right."""
        now = self._clock()
        plain = {name: channel for name, channel in self.estate.channels.items() if channel.digest is None}
        awake = {name: when_awake(channel, self.estate, now) for name, channel in plain.items()}
        self._store.outbox.set_right(now, now + _LONGEST_WAIT, now + AT_THE_LATEST, awake)

    def waiting(self) -> dict[str, int]:
        """How many notices and events wait on each channel."""
        tally = self._store.outbox.tally()
        return {name: tally.get(name, 0) for name in self.estate.channels}

    def outgoing(self) -> list[Outgoing]:
        """Write the notices that are due, and take those that are to be sent now."""
        now = self._clock()
        direct = self._direct(now)
        try:
            self._write_due(now)
            taken = self._store.outbox.take(now, now + _OURS)
            ready = [one for one in taken if not self._noted_late(one) and not self._given_up(one, now)]
            if taken:
                self._store.outbox.forget(now - self.estate.notices.keep)
        except StoreError:
            return direct
        return direct + [
            Outgoing(one.channel, self.estate.channels[one.channel], msgspec.json.decode(one.letter, type=Letter), one)
            for one in ready
        ]

    def _direct(self, now: datetime) -> list[Outgoing]:
        """What the store did not take: by now it may take it, otherwise it is reported past it."""
        posts, self.past_the_store = self.past_the_store, []
        if not posts:
            return []
        try:
            self._store.outbox.post([replace(one, due=now, round=None) for one in posts], {})
        except StoreError:
            return [
                Outgoing(name, self.estate.channels[name], self._letter(name, pending, now), direct=pending)
                for name, pending in _by_channel(posts).items()
                if name in self.estate.channels
            ]
        return []

    def _noted_late(self, notice: Notice) -> bool:
        """Whether it was sent before, and only the word of that could not be written down; it is now."""
        result = self._unnoted.get(notice.number)
        if result is None:
            return False
        self._note(notice, result)
        del self._unnoted[notice.number]
        return True

    def _write_due(self, now: datetime) -> None:
        """One notice a channel, of all that is due; while one waits to be sent again, the rest waits behind it."""
        outbox = self._store.outbox
        blocked = {one.channel for one in outbox.waiting()}
        due = [one for one in outbox.pending() if one.due <= now and one.channel not in blocked]
        for name, pending in _by_channel(due).items():
            letter = self._letter(name, pending, now)
            outbox.write(name, now, letter.subject, msgspec.json.encode(letter), [one.number for one in pending])

    def _letter(self, name: str, pending: Sequence[Pending], now: datetime) -> Letter:
        events = list(map(_event, pending))
        channel = self.estate.channels.get(name) or Channel()  # one that is gone: for the record alone
        if channel.digest is not None:
            events = as_it_is_now(events)
        files, remarks = attached(channel, events, self.estate, self._store)
        mark = channel.new_mark
        return letter_of(events, channel, self.estate, now, remarks=remarks, mark=mark, attachments=files)

    def _given_up(self, notice: Notice, now: datetime) -> bool:
        """Whether a notice is not sent any more, which stays on record."""
        if notice.channel not in self.estate.channels:
            why = f"there is no channel {notice.channel} any more"
        elif now - notice.at > self.estate.notices.give_up:
            why = f"given up after {describe(now - notice.at)}: {notice.answer or 'no answer'}"
        else:
            return False
        self._store.outbox.settle(notice.number, NoticeState.EXPIRED, why)
        return True

    def settle(self, outgoing: Outgoing, result: Sent | NoticeError) -> DeliveryResult:
        """Note what became of a notice."""
        notice, name = outgoing.notice, outgoing.name
        trouble = str(result) if isinstance(result, NoticeError) else None
        if isinstance(result, Sent) and (result.refused or result.later):
            trouble = result.answer
        waits = isinstance(result, NoticeError) or bool(result.later)
        if notice is not None:
            try:
                self._note(notice, result)
            except StoreError:
                self._unnoted[notice.number] = result
                raise
        elif waits:
            self.past_the_store += outgoing.direct
            self._again_at = self._clock() + _FIRST_WAIT
        return DeliveryResult(name, trouble, waits and notice is not None)

    def _note(self, notice: Notice, result: Sent | NoticeError) -> None:
        """Write down what became of it."""
        again = result.later if isinstance(result, Sent) else notice.remaining
        waits = isinstance(result, NoticeError) or bool(again)
        answer = result.answer if isinstance(result, Sent) else str(result)
        wait = min(_FIRST_WAIT * 2 ** min(notice.tries - 1, 10), _LONGEST_WAIT)
        # Of a notice with recipients remaining, some have got it before.
        gone = isinstance(result, Sent) and result.refused and not result.taken and not notice.remaining
        fate = NoticeState.REFUSED if gone else NoticeState.SENT
        if waits:
            fate = NoticeState.QUEUED
        self._store.outbox.settle(notice.number, fate, answer, self._clock() + wait if waits else None, again)

    async def deliver_beside(self) -> list[DeliveryResult]:
        """Send all that is due, one after another, each in a thread: the event loop goes on."""
        results = []
        for one in self.outgoing():
            result = await asyncio.to_thread(send, one, self.estate, self._clock())
            results.append(self.settle(one, result))
        return results

    def deliver(self) -> Iterator[DeliveryResult]:
        """Send all that is due, one after another."""
        for one in self.outgoing():
            yield self.settle(one, send(one, self.estate, self._clock()))


def _by_channel(pending: Iterable[Pending]) -> dict[str, list[Pending]]:
    found: defaultdict[str, list[Pending]] = defaultdict(list)
    for one in pending:
        found[one.channel].append(one)
    return found


def send(outgoing: Outgoing, estate: Estate, at: datetime) -> Sent | NoticeError:
    """Send one notice, the same however often it is tried; safe to be called in a thread of its own."""
    notice = outgoing.notice
    try:
        if notice is None:
            return send_over(outgoing.channel, outgoing.letter, estate, at)
        return send_over(outgoing.channel, outgoing.letter, estate, notice.at, notice.remaining)
    except NoticeError as exc:
        return exc
    except Exception as exc:  # whatever is wrong with one channel must not end the service
        return NoticeError(f"unexpected {type(exc).__name__}: {exc}", hint="please report this")


def send_past_the_store(estate: Estate, event: Event, at: datetime) -> list[DeliveryResult]:
    """Send an event at once to each channel that wants it, where no store can remember it."""
    results = []
    for name, channel in estate.channels.items():
        if wants(channel, event, estate):
            sent = send(Outgoing(name, channel, letter_of([event], channel, estate, at)), estate, at)
            results.append(DeliveryResult(name, str(sent) if isinstance(sent, NoticeError) else None))
    return results


def try_channel(channel: Channel, estate: Estate, at: datetime) -> Sent:
    """Send a test; returns what became of it, with the conversation. Raises NoticeError."""
    words = f"This is a test of a channel of {estate.settings.name}. Nothing is wrong."
    event = Event("test", at, words, look="historon notices")
    return send_over(channel, letter_of([event], channel, estate, at), estate, at)


def sign_of_life(estate: Estate, report: RoundReport, *, well: bool) -> DeliveryResult | None:
    """After a good round request the heartbeat's address: silence raises the alarm elsewhere.

    So it does where the round was good and all else is not `well`.
    """
    if estate.settings.heartbeat is None or report.in_trouble or report.interrupted or not well:
        return None
    try:
        request("heartbeat", "GET", estate.settings.heartbeat, estate)
    except NoticeError as exc:
        return DeliveryResult("heartbeat", str(exc))
    return DeliveryResult("heartbeat")


def _event(pending: Pending) -> Event:
    """An event that waits; ledgers up to schema 7 have `first` for `new`."""
    event = msgspec.json.decode(pending.event, type=Event)
    return msgspec.structs.replace(event, kind="new") if event.kind == "first" else event
