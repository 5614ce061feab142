"""From what happened to who was told: events go through the outbox of the store, channel by channel."""

import asyncio
from collections import Counter, defaultdict
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from contextlib import suppress
from dataclasses import dataclass
from datetime import datetime, timedelta
from types import MappingProxyType

import msgspec

from historon.collect import RoundReport, SourceResult
from historon.errors import StoreError
from historon.estate import (
    AnyChannel,
    CommandChannel,
    Estate,
    FileChannel,
    MailChannel,
    SyslogChannel,
    WebhookChannel,
    describe,
)
from historon.notices.attaching import attached
from historon.notices.conditions import Condition, News, advance
from historon.notices.events import Event, change_events, round_ended, state_of, trouble_event
from historon.notices.letters import Letter, letter_of
from historon.notices.mail import mark_of, send_mail
from historon.notices.programs import NoticeError, Sent, request, run_command, send_syslog, send_webhook, write_file
from historon.notices.routing import due_at, wants, when_awake
from historon.store import ESTATE, Fate, Notice, Outcome, Pending, Store

__all__ = ["Outgoing", "Teller", "Told", "Watched", "send", "sign_of_life", "try_channel"]

_SOURCES = "told"  # under which the ledger remembers what people know of a source
_OURS = timedelta(minutes=10)  # how long a notice that is being sent is nobody else's
_FIRST_WAIT, _LONGEST_WAIT = timedelta(minutes=1), timedelta(hours=1)
_STILL = {"failing": "still-failing", "suspect": "still-suspect", "promise-broken": "still-broken"}


@dataclass(frozen=True)
class Outgoing:
    """A notice that is to be sent now; without a `notice` it is one that the store did not take."""

    name: str
    channel: AnyChannel
    letter: Letter
    notice: Notice | None = None


@dataclass(frozen=True)
class Told:
    """What became of one notice on its channel: it was told when there is no trouble; `waits` to be sent again."""

    channel: str
    trouble: str | None = None
    waits: bool = False


@dataclass(frozen=True)
class Watched:
    """Something that is looked at all the time, and told of when it changes.

    `subject` is a source, or ESTATE. `state` is what is amiss, as a kind of event, empty for nothing; `over` the kind
    that says that it is over, and `make` the event of a kind.
    """

    subject: str
    state: str
    over: str
    make: Callable[[str], Event]


class Teller:
    """Tells of one estate. What is to be told is in the store before anybody is told."""

    def __init__(self, estate: Estate, store: Store, clock: Callable[[], datetime]) -> None:
        self.estate = estate
        self._store = store
        self._clock = clock
        self._heard: list[tuple[Event, int | None]] = []
        self._memories: dict[str, str] = {}
        self._gathering: defaultdict[int, set[str]] = defaultdict(set)
        self._homeless: list[Pending] = []  # what the store did not take

    # ---- what happened -------------------------------------------------------------------------------------

    def hear(self, result: SourceResult) -> None:
        """Take in how a source fared in a round; it is kept at the loop's next turn, with what else came in.

        What the ledger did not take is left out: the round's end tells of that.
        """
        if result.round is None:
            return
        at = self._clock()
        events = list(change_events(result, self.estate.sources.get(result.source), at))
        if result.outcome is not Outcome.SKIPPED and (news := self._news_of(result, at)):
            events.append(news)
        self._heard += [(event, result.round) for event in events]
        try:
            asyncio.get_running_loop().call_soon(self.keep)
        except RuntimeError:  # the round is over
            self.keep()

    def _news_of(self, result: SourceResult, at: datetime) -> Event | None:
        """What is new about the state of a source that was visited."""
        name, state = result.source, state_of(result)
        text = self._memories[name] if name in self._memories else self._recalled(name)
        before = msgspec.json.decode(text, type=Condition) if text else None
        grave = state in ("left-paused", "identity-changed")
        after, news = advance(before, state, at, self.estate.notices.remind, grave=grave)
        if after is not None or text:
            self._memories[name] = msgspec.json.encode(after).decode() if after else ""
        since = f"since {describe(at - before.since)}: " if before and before.state else ""
        match news:
            case News.BEGAN:
                return trouble_event(state, result, at)
            case News.STILL if before and before.flapping:
                return Event("flapping", at, "it still does", name, f"historon versions {name}")
            case News.STILL:
                return trouble_event(_STILL.get(state, state), result, at, since)
            case News.FLAPPING:
                told = "it is told no more until it has been steady for a while"
                return Event("flapping", at, told, name, f"historon rehearse {name}")
            case News.OVER:
                was = f"after {describe(at - before.since)}" if before and before.state else "steady again"
                return Event("recovered", at, was, name)
        return None

    def _recalled(self, name: str) -> str | None:
        """What is remembered of a source; where the store cannot say it, it is told as if it were new."""
        try:
            return self._store.recall(name, _SOURCES)
        except StoreError:
            return None

    def end_round(self, report: RoundReport) -> None:
        """Take in the end of a round: what came up in it is due now."""
        if report.store_trouble:
            trouble = Event("store-trouble", report.ended, report.store_trouble, advice="historon doctor")
            self._heard.append((trouble, report.number))
        self.keep()
        numbers = [*report.earlier, report.number]
        gathered = {name for number in numbers for name in self._gathering.pop(number or 0, set())}
        ended = round_ended(report)
        now = self._clock()
        posts = [
            self._pending(name, channel, ended, now, None) for name, channel in self.estate.channels.items()
            if wants(channel, ended, self.estate) or (name in gathered and not channel.at_once)
        ]  # fmt: skip
        self._post(posts)
        due = {name: when_awake(channel, self.estate, now) for name, channel in self.estate.channels.items()}
        for number in filter(None, numbers):
            with suppress(StoreError):  # it is told all the same, only later
                self._store.outbox.end_round(number, due)

    def tell(self, *events: Event) -> None:
        """Take in events that belong to no round, and keep them."""
        self._heard += [(event, None) for event in events]
        self.keep()

    def watch(self, topic: str, looks: Iterable[Watched]) -> list[Event]:
        """Take in how things stand that are looked at all the time; returns, and keeps, what is to be told of them.

        Of a source that is flapping nothing more is told until it is steady, and nobody is reminded here of one that is
        known to fail.
        """
        before = self._known(topic)
        sources = self._known()
        now, memories, events = self._clock(), dict[str, str](), list[Event]()
        for look in looks:
            known = sources.get(look.subject)
            if known and known.flapping:
                continue
            old = before.get(look.subject)
            after, news = advance(old, look.state, now, self.estate.notices.remind, visited=False)
            if after != old:
                memories[look.subject] = msgspec.json.encode(after).decode() if after else ""
            match news:
                case News.BEGAN:
                    events.append(look.make(look.state))
                case News.STILL if not (known and known.state):
                    events.append(look.make(_STILL.get(look.state, look.state)))
                case News.OVER:
                    events.append(look.make(look.over))
        if memories or events:
            posts = [one for event in events for one in self._routed(event, None)]
            self._post(posts, {_topic(topic): memories})
        return events

    def tell_well(self, event: Event) -> None:
        """Tell that all is well, wherever that is wanted and nothing was told for as long as it is wanted."""
        now = self._clock()
        wanting = {name: one for name, one in self.estate.channels.items() if one.all_well is not None}
        if not wanting:
            return
        outbox = self._store.outbox
        last = outbox.last_sent()
        busy = {one.channel for one in outbox.pending()} | {one.channel for one in outbox.waiting()}
        self._post([
            self._pending(name, channel, event, now, None) for name, channel in wanting.items()
            if name not in busy and channel.all_well and (name not in last or now - last[name] >= channel.all_well)
        ])  # fmt: skip

    def has_due(self, now: datetime) -> bool:
        """Whether there is anything to send."""
        if self._homeless:
            return True
        due = self._store.outbox.next_due()
        return due is not None and due <= now

    def waiting(self) -> dict[str, int]:
        """How many notices and events wait on each channel."""
        outbox = self._store.outbox
        tally = Counter(one.channel for one in outbox.waiting()) + Counter(one.channel for one in outbox.pending())
        return {name: tally[name] for name in self.estate.channels}

    def _known(self, topic: str = "") -> dict[str, Condition]:
        """What people know of each source, or of something else that is looked at."""
        topic = _topic(topic)
        texts = {**self._store.recall_all(topic), ESTATE: self._store.recall(ESTATE, topic)}
        return {name: msgspec.json.decode(text, type=Condition) for name, text in texts.items() if text}

    # ---- into the outbox -----------------------------------------------------------------------------------

    def keep(self) -> None:
        """Put what was heard into the outbox, in one transaction; what the store does not take is told directly."""
        if not self._heard and not self._memories:
            return
        heard, self._heard = self._heard, []
        memories, self._memories = self._memories, {}
        posts = [one for event, number in heard for one in self._routed(event, number)]
        self._post(posts, {_SOURCES: memories} if memories else {})

    def _routed(self, event: Event, number: int | None) -> Iterator[Pending]:
        now = self._clock()
        for name, channel in self.estate.channels.items():
            if wants(channel, event, self.estate):
                yield self._pending(name, channel, event, now, number)

    def _pending(self, name: str, channel: AnyChannel, event: Event, now: datetime, number: int | None) -> Pending:
        due, waits = due_at(channel, event, self.estate, now, in_round=number is not None)
        if waits and number is not None:
            self._gathering[number].add(name)
        return Pending(name, due, msgspec.json.encode(event), number if waits else None)

    def _post(self, posts: Sequence[Pending], memories: Mapping[str, Mapping[str, str]] = MappingProxyType({})) -> None:
        if not posts and not memories:
            return
        try:
            self._store.outbox.post(posts, memories)
        except StoreError:
            self._homeless += posts

    # ---- and out of it -------------------------------------------------------------------------------------

    def outgoing(self) -> list[Outgoing]:
        """Write the notices that are due, and take those that are to be sent now."""
        now = self._clock()
        direct = [
            Outgoing(name, self.estate.channels[name], self._letter(name, pending, now))
            for name, pending in _by_channel(self._homeless).items()
        ]
        self._homeless = []
        try:
            self._write_due(now)
            taken = self._store.outbox.take(now, now + _OURS)
            ready = [one for one in taken if not self._given_up(one, now)]
            if taken:
                self._store.outbox.forget(now - self.estate.notices.keep)
        except StoreError:
            return direct
        return direct + [
            Outgoing(one.channel, self.estate.channels[one.channel], msgspec.json.decode(one.letter, type=Letter), one)
            for one in ready
        ]

    def _write_due(self, now: datetime) -> None:
        """One notice a channel, of all that is due; while one waits to be sent again, the rest waits behind it."""
        outbox = self._store.outbox
        blocked = {one.channel for one in outbox.waiting()}
        due = [one for one in outbox.pending() if one.due <= now and one.channel not in blocked]
        for name, pending in _by_channel(due).items():
            letter = self._letter(name, pending, now)
            outbox.write(name, now, letter.subject, msgspec.json.encode(letter), [one.number for one in pending])

    def _letter(self, name: str, pending: Sequence[Pending], now: datetime) -> Letter:
        events = [msgspec.json.decode(one.event, type=Event) for one in pending]
        channel = self.estate.channels.get(name) or FileChannel(path="")  # one that is gone: for the record alone
        if not isinstance(channel, MailChannel):
            return letter_of(events, channel, self.estate, now)
        files, remarks = attached(channel, events, self.estate, self._store) if channel.attach else ([], [])
        return letter_of(events, channel, self.estate, now, remarks=remarks, mark=mark_of(channel), attachments=files)

    def _given_up(self, notice: Notice, now: datetime) -> bool:
        """Whether a notice is not sent any more, which stays on record."""
        if notice.channel not in self.estate.channels:
            why = f"there is no channel {notice.channel} any more"
        elif now - notice.at > self.estate.notices.give_up:
            why = f"given up after {describe(now - notice.at)}: {notice.answer or 'never answered'}"
        else:
            return False
        self._store.outbox.settle(notice.number, Fate.EXPIRED, why)
        return True

    def settle(self, outgoing: Outgoing, result: Sent | NoticeError) -> Told:
        """Note what became of a notice."""
        notice, name = outgoing.notice, outgoing.name
        if isinstance(result, Sent):
            trouble = result.answer if result.refused or result.later else None
            again = result.later
        else:
            trouble, again = str(result), tuple(notice.remaining if notice else ())
        waits = bool(again) or isinstance(result, NoticeError)
        if notice is not None:
            answer = result.answer if isinstance(result, Sent) else str(result)
            self._note(notice, result, answer, again, waits=waits)
        return Told(name, trouble, waits and notice is not None)

    def _note(
        self, notice: Notice, result: Sent | NoticeError, answer: str, again: Sequence[str], *, waits: bool
    ) -> None:
        wait = min(_FIRST_WAIT * 2 ** min(notice.tries - 1, 10), _LONGEST_WAIT)
        # Of a notice with recipients remaining, some have got it before.
        gone = isinstance(result, Sent) and result.refused and not result.taken and not notice.remaining
        fate = Fate.WAITING if waits else Fate.REFUSED if gone else Fate.SENT
        self._store.outbox.settle(notice.number, fate, answer, self._clock() + wait if waits else None, again)

    def deliver(self) -> Iterator[Told]:
        """Send all that is due, one after another."""
        for one in self.outgoing():
            yield self.settle(one, send(one, self.estate, self._clock()))


def _topic(topic: str) -> str:
    return f"{_SOURCES} {topic}".strip()


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
            return _send(outgoing.channel, outgoing.letter, estate, at, ())
        return _send(outgoing.channel, outgoing.letter, estate, notice.at, notice.remaining)
    except NoticeError as exc:
        return exc
    except Exception as exc:  # whatever is wrong with one channel must not end the service
        return NoticeError(f"unexpected {type(exc).__name__}: {exc}", hint="please report this")


def try_channel(channel: AnyChannel, estate: Estate, at: datetime) -> Sent:
    """Send a test; returns what became of it, with the conversation. Raises NoticeError."""
    words = f"This is a test of a channel of {estate.settings.name}. Nothing is wrong."
    event = Event("test", at, words, advice="historon notices")
    return _send(channel, letter_of([event], channel, estate, at), estate, at, ())


def sign_of_life(estate: Estate, report: RoundReport) -> Told | None:
    """After a good round request the heartbeat's address: silence raises the alarm elsewhere."""
    bad = report.count(Outcome.FAILED, Outcome.SUSPECT)
    if estate.settings.heartbeat is None or bad or report.store_trouble or report.interrupted or report.broken:
        return None
    try:
        request("heartbeat", "GET", estate.settings.heartbeat, estate)
    except NoticeError as exc:
        return Told("heartbeat", str(exc))
    return Told("heartbeat")


def _send(channel: AnyChannel, letter: Letter, estate: Estate, at: datetime, remaining: Sequence[str]) -> Sent:
    match channel:
        case MailChannel():
            return send_mail(channel, letter, estate, at, remaining)
        case WebhookChannel():
            return send_webhook(channel, letter, estate, at)
        case SyslogChannel():
            return send_syslog(channel, letter, estate, at)
        case CommandChannel():
            return run_command(channel, letter, estate, at)
        case FileChannel():
            return write_file(channel, letter, estate, at)
