"""From what happened to what is to be reported: what is news, to whom, when; into the outbox of the store."""

import asyncio
from collections import defaultdict
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from contextlib import suppress
from dataclasses import dataclass
from datetime import datetime
from types import MappingProxyType

import msgspec

from historon.base.errors import StoreError
from historon.collect import Resumed, RoundReport, SourceResult
from historon.estate import EVENT_KINDS, Channel, Estate, Severity, describe
from historon.notices.conditions import Condition, News, advance
from historon.notices.delivery import Delivery
from historon.notices.events import Event, change_events, round_ended, state_of, trouble_event
from historon.notices.routing import due_at, wants, when_awake
from historon.store import ESTATE, Outcome, Pending, Store

__all__ = ["Monitored", "Notifier"]

_SOURCES = "told"  # under which the ledger remembers what people know of a source
_UP_TO = "told up to"  # under which earlier ones remembered the highest version of a source that was reported
_CUT_SHORT = 200  # rounds that are looked through for those that were cut short
_NEWS = (Outcome.NEW, Outcome.CHANGED)


@dataclass(frozen=True)
class Monitored:
    """Something that is looked at all the time, and reported when it changes.

    `subject` is a source, or ESTATE. `state` is what is amiss, as a kind of event, empty for nothing; `over` the kind
    that says that it is over, and `make` the event of a kind.
    """

    subject: str
    state: str
    over: str
    make: Callable[[str], Event]


class Notifier:
    """Tells of one estate. What is to be reported is in the store before anybody is notified."""

    def __init__(self, estate: Estate, store: Store, clock: Callable[[], datetime]) -> None:
        self.delivery = Delivery(estate, store, clock)
        self._store = store
        self._clock = clock
        self._heard: list[tuple[Event, int | None]] = []
        self._memories: dict[str, str] = {}
        self._versions: defaultdict[str, dict[str, str]] = defaultdict(dict)  # by the topic of a round, and source
        # What people were notified of that the store did not take, by topic: reported again it would be reported
        # without end.
        self._unkept: defaultdict[str, dict[str, str]] = defaultdict(dict)
        # Of rounds that have not ended: the channels that hear of their end, and what is as bad as was reported before.
        self._gathering: defaultdict[int, set[str]] = defaultdict(set)
        self._as_before: defaultdict[int, list[str]] = defaultdict(list)
        self._ended: set[int] = set()  # rounds of which the store does not know yet that what came up in them is due

    @property
    def estate(self) -> Estate:
        """The estate as it is in force."""
        return self.delivery.estate

    @estate.setter
    def estate(self, estate: Estate) -> None:
        self.delivery.estate = estate

    # ---- what happened -------------------------------------------------------------------------------------

    def hear(self, result: SourceResult) -> None:
        """Take in how a source fared in a round; it is kept at the loop's next turn, with what else came in.

        What the ledger did not take is left out: the round's end tells of that.
        """
        if result.round is None:
            return
        at = self._clock()
        events = list(change_events(result, at))
        if result.outcome in _NEWS and result.number is not None:
            self._versions[_told_in(result.round)][result.source] = str(result.number)
        if result.outcome is not Outcome.SKIPPED and (news := self._news_of(result, at)):
            events.append(news)
        elif state_of(result):
            self._as_before[result.round].append(result.source)
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
        grave = _is_critical(state)
        after, news = advance(before, state, at, self.estate.notices.tell_again, grave=grave)
        if after is not None or text:
            self._memories[name] = msgspec.json.encode(after).decode() if after else ""
        since = f"since {describe(at - before.since)}: " if before and before.state else ""
        match news:
            case News.BEGAN:
                return trouble_event(state, result, at)
            case News.STILL if before and before.flapping:
                return Event("flapping", at, "it still does", name, look=f"historon rehearse {name}")
            case News.STILL:
                return trouble_event(_told_again(state), result, at, since)
            case News.FLAPPING:
                told = "no more notices about it until it has been steady for a while"
                return Event("flapping", at, told, name, look=f"historon rehearse {name}")
            case News.OVER:
                was = f"after {describe(at - before.since)}" if before and before.state else "steady again"
                return Event("recovered", at, was, name)
        return None

    def _recalled(self, name: str) -> str | None:
        """What is remembered of a source; where the store cannot say it, it counts as new."""
        if name in self._unkept[_SOURCES]:
            return self._unkept[_SOURCES][name]
        try:
            return self._store.recall(name, _SOURCES)
        except StoreError:
            return None

    def end_round(self, report: RoundReport) -> None:
        """Take in the end of a round: what came up in it is due now."""
        if report.store_trouble:
            trouble = Event("store-trouble", report.ended, report.store_trouble, look="historon doctor")
            self._heard.append((trouble, report.number))
        self.keep()
        with suppress(StoreError):
            self.tell_resumed(report.resumed)
        numbers = [*report.earlier, report.number]
        gathered = {name for number in numbers for name in self._gathering.pop(number or 0, set())}
        as_before = [name for number in numbers for name in self._as_before.pop(number or 0, [])]
        ended = round_ended(report, as_before, self._ailing_elsewhere(report))
        now = self._clock()
        posts = [
            self._pending(name, channel, ended, now, None)
            for name, channel in self.estate.channels.items()
            if wants(channel, ended, self.estate) or (name in gathered and not channel.immediately)
        ]
        self._post(posts)
        self._ended |= set(filter(None, numbers))
        self.catch_up()
        self._forget_told(filter(None, numbers))

    def _forget_told(self, rounds: Iterable[int]) -> None:
        """A round that has ended has reported all that it stored: which versions these were matters no more."""
        for number in rounds:
            with suppress(StoreError):
                topic = _told_in(number)
                if topic not in self._unkept:
                    self._store.remember_all(topic, dict.fromkeys(self._store.recall_all(topic), ""))

    def catch_up(self) -> None:
        """What came up in rounds that ended is due, as soon as the store takes that."""
        now = self._clock()
        with suppress(StoreError):
            for number in sorted(self._ended):
                due = {name: when_awake(channel, self.estate, now) for name, channel in self.estate.channels.items()}
                self._store.outbox.end_round(number, due)
                self._ended.discard(number)

    def _ailing_elsewhere(self, report: RoundReport) -> int:
        """How many sources that this round did not go to went wrong at their last try."""
        try:
            states = self._store.states()
        except StoreError:
            return 0
        looked_at = {result.source for result in report.results}
        others = [source for source in self.estate.sources.values() if source.name not in looked_at]
        bad = (Outcome.FAILED, Outcome.SUSPECT)
        visited = [one.name for one in others if not self.estate.is_skipped(one, report.ended)]
        return sum(name in states and states[name].outcome in bad for name in visited)

    def tell(self, *events: Event) -> None:
        """Take in events that belong to no round, and keep them."""
        self._heard += [(event, None) for event in events]
        self.keep()

    def keep_with(self, events: Sequence[Event], memories: Mapping[str, Mapping[str, str]]) -> None:
        """Take in events that belong to no round, in one step with what is to be remembered by topic and source."""
        self._post([one for event in events for one in self._routed(event, None)], memories)

    def tell_untold(self) -> None:
        """Tell of what came up in rounds that were cut short, so that nobody was notified of it.

        What waits for the end of such a round is due; of versions that it had stored, and not come to tell, it is
        reported.
        """
        rounds = self._store.rounds(_CUT_SHORT)
        cut_short = [one for one in rounds if one.ended is None and self._store.at_work(one) is False]
        waiting = {one.round for one in self._store.outbox.pending()}
        self._ended |= {one.number for one in cut_short if one.number in waiting}
        earlier = self._store.recall_all(_UP_TO)
        for one in reversed(cut_short):
            told = self._store.recall_all(_told_in(one.number))
            for visit in self._store.visits(one.number):
                if visit.outcome not in _NEWS or visit.number is None or visit.source in told:
                    continue
                if visit.number > int(earlier.get(visit.source, 0)):
                    self._tell_late(one.number, visit.source, visit.number)
        self.keep()

    def _tell_late(self, round_number: int, name: str, number: int) -> None:
        version = self._store.version(name, number)
        if version is None:
            return
        words = (
            f"version {number}, +{version.added} -{version.removed} lines; reported late, as the round was interrupted"
        )
        look = f"historon diff {name}@{number}"
        added, removed = version.added, version.removed
        late = Event("changed", self._clock(), words, name, look=look, version=number, added=added, removed=removed)
        self._heard.append((late, None))
        self._versions[_told_in(round_number)][name] = str(number)

    def watch(self, topic: str, looks: Iterable[Monitored]) -> list[Event]:
        """Take in how things stand that are looked at all the time; returns, and keeps, what is to be reported of them.

        Of a source that is flapping nothing more is reported until it is steady, and nobody is reminded here of one
        that is known to fail.
        """
        before = self._known(topic)
        sources = self._known()
        now, memories, events = self._clock(), dict[str, str](), list[Event]()
        for look in looks:
            known = sources.get(look.subject)
            flaps = known is not None and known.flapping and not _is_critical(look.state)
            fails = known is not None and look.state and known.state == look.state
            if flaps or fails:
                continue
            old = before.get(look.subject)
            after, news = advance(old, look.state, now, self.estate.notices.tell_again, visited=False)
            if after != old:
                memories[look.subject] = msgspec.json.encode(after).decode() if after else ""
            match news:
                case News.BEGAN:
                    events.append(look.make(look.state))
                case News.STILL if not (known and known.state):
                    events.append(look.make(_told_again(look.state)))
                case News.OVER:
                    events.append(look.make(look.over))
        if memories or events:
            posts = [one for event in events for one in self._routed(event, None)]
            self._post(posts, {_topic(topic): memories})
        return events

    def tell_resumed(self, found: Sequence[Resumed]) -> None:
        """Tell what became of services that another process had left paused."""
        for one in found:
            look = _about_pause(one, self._clock())
            told = self.watch("paused", [look])
            if not one.trouble and not told:
                self.tell(look.make(look.over))

    def tell_well(self, event: Event) -> None:
        """Tell that all is well, wherever that is wanted and nothing was reported for as long as it is wanted."""
        now = self._clock()
        wanting = {name: one for name, one in self.estate.channels.items() if one.all_well is not None}
        if not wanting:
            return
        last, busy = self._store.outbox.last_sent(), self._store.outbox.tally()
        self._post(
            [
                self._pending(name, channel, event, now, None)
                for name, channel in wanting.items()
                if name not in busy and channel.all_well and (name not in last or now - last[name] >= channel.all_well)
            ]
        )

    def _known(self, topic: str = "") -> dict[str, Condition]:
        """What people know of each source, or of something else that is looked at."""
        topic = _topic(topic)
        kept = {**self._store.recall_all(topic), ESTATE: self._store.recall(ESTATE, topic)}
        texts = {**kept, **self._unkept[topic]}
        return {name: msgspec.json.decode(text, type=Condition) for name, text in texts.items() if text}

    # ---- into the outbox -----------------------------------------------------------------------------------

    def keep(self) -> None:
        """Put what was heard into the outbox, in one transaction; what the store does not take is reported directly."""
        if not self._heard and not self._memories and not self._versions:
            return
        heard, self._heard = self._heard, []
        memories = {_SOURCES: self._memories, **self._versions}
        self._memories, self._versions = {}, defaultdict(dict)
        posts = [one for event, number in heard for one in self._routed(event, number)]
        self._post(posts, {topic: told for topic, told in memories.items() if told})

    def _routed(self, event: Event, number: int | None) -> Iterator[Pending]:
        now = self._clock()
        for name, channel in self.estate.channels.items():
            if wants(channel, event, self.estate):
                yield self._pending(name, channel, event, now, number)

    def _pending(self, name: str, channel: Channel, event: Event, now: datetime, number: int | None) -> Pending:
        due, waits = due_at(channel, event, self.estate, now, in_round=number is not None)
        if waits and number is not None:
            self._gathering[number].add(name)
        return Pending(name, due, msgspec.json.encode(event), number if waits else None)

    def _post(self, posts: Sequence[Pending], memories: Mapping[str, Mapping[str, str]] = MappingProxyType({})) -> None:
        if not posts and not memories:
            return
        topics = self._unkept.keys() | memories.keys()
        told = {topic: {**self._unkept.get(topic, {}), **memories.get(topic, {})} for topic in topics}
        try:
            self._store.outbox.post(posts, told)
        except StoreError:
            self.delivery.past_the_store += posts
            self._unkept.update(told)
        else:
            self._unkept.clear()


def _about_pause(resumed: Resumed, now: datetime) -> Monitored:
    left = resumed.left

    def make(kind: str) -> Event:
        if kind == "resumed":
            since = f"{describe(now - left.since)} after it was paused"
            return Event(kind, now, f"Historon ended before it could resume it; it was resumed {since}", left.source)
        return Event(kind, now, resumed.trouble, left.source, f"resume it by hand, now: {left.words}")

    return Monitored(left.source, "not-resumed" if resumed.trouble else "", "resumed", make)


def _is_critical(kind: str) -> bool:
    return kind in EVENT_KINDS and EVENT_KINDS[kind].severity is Severity.CRITICAL


def _told_again(kind: str) -> str:
    """The kind by which a trouble is reported again."""
    return EVENT_KINDS[kind].still or kind


def _told_in(round_number: int) -> str:
    """The topic under which is remembered, by source, the version of a round that was reported.

    Of each round, as one highest number of a source would hide a lower one that nobody was notified of.
    """
    return f"reported in round {round_number}"


def _topic(topic: str) -> str:
    return f"{_SOURCES} {topic}".strip()
