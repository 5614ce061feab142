"""The wording of a notice, from its events alone: what needs action first, then what changed, then what went well."""

from collections import Counter
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta

import msgspec

from historon.base.quantities import for_people
from historon.collect import cause_of
from historon.estate import EVENT_KINDS, Channel, Estate, EventKind
from historon.insight import Family, families, is_packed
from historon.notices.events import ChangedLine, Event
from historon.notices.rendering import TemplateError, own_template, rendered, shipped_template, visible
from historon.store import Changed, Outcome

__all__ = ["Attachment", "Letter", "letter_of"]

_UNCOMPARED = "its changes could not be calculated; its remarks are in the record of the round"
_LINES_A_FAMILY = 8
_LINES_IN_ALL = 80
_NAMED = 6  # sources of one family
_ITEMS = 40  # that are reported at length in one section
_LISTED = 100  # that are known by name alone
_EXCERPT = 6
_SPAN = timedelta(hours=6)  # a notice about more than this tells when each thing happened

_ORDER = ("Needs action", "Changed", "Well again", "New", "Skipped", "Also")


class Attachment(msgspec.Struct, frozen=True):
    """A file that goes with a letter."""

    name: str
    content: bytes


class Letter(msgspec.Struct, frozen=True, omit_defaults=True):
    """A notice in words, for mail as HTML too, and in single events; `mark` is its Message-ID (RFC 5322)."""

    subject: str
    text: str
    html: str
    events: tuple[Event, ...] = ()
    mark: str = ""
    attachments: tuple[Attachment, ...] = ()


@dataclass(frozen=True)
class Item:
    """One thing in a section of a letter."""

    title: str
    lines: tuple[str, ...] = ()
    code: tuple[str, ...] = ()


@dataclass(frozen=True)
class Section:
    """Things of one kind."""

    heading: str
    items: Sequence[Item]

    @property
    def urgent(self) -> bool:
        """Whether somebody has to do something."""
        return self.heading == _ORDER[0]


def letter_of(
    events: Sequence[Event],
    channel: Channel,
    estate: Estate,
    at: datetime,
    *,
    remarks: Sequence[str] = (),
    mark: str = "",
    attachments: Sequence[Attachment] = (),
) -> Letter:
    """What to tell a channel of these events. A template of its own that is wrong harms nothing but the form."""
    events = sorted(events, key=lambda one: (one.kind == "round-ended", one.severity, one.source or "", one.at))
    subject = _subject(events, estate)
    closing = [*_closing(events, estate, at), *map(visible, remarks)]
    values = {
        "subject": subject,
        "estate": estate.settings.name,
        "sections": list(_sections(events, estate)),
        "closing": closing,
        "events": [event.data for event in events],
        "at": at.astimezone(estate.zone),
    }
    own_text, own_html = channel.letter_templates
    text = _written(own_text, "letter.txt.j2", values, closing, estate)
    html = _written(own_html, "letter.html.j2", values, closing, estate) if channel.in_html else ""
    return Letter(subject, text, html, tuple(events), mark, tuple(attachments))


def _written(own: str | None, name: str, values: Mapping[str, object], closing: list[str], estate: Estate) -> str:
    html = name.endswith(".html.j2")
    if own is not None:
        try:
            return rendered(own_template(estate, own), values, html=html)
        except TemplateError as exc:
            closing.append(f"The template {own} could not be used: {visible(exc.message)}.")
    return rendered(shipped_template(name), values, html=html)


# ---- the subject: state and count in the first 40 characters --------------------------------------------------------


def _subject(events: Sequence[Event], estate: Estate) -> str:
    tally = Counter(event.kind for event in _once_a_source(events))
    counted = [(EVENT_KINDS[kind], number) for kind, number in tally.items() if EVENT_KINDS[kind].subject]
    bad = [_counted(kind, number) for kind, number in counted if kind.is_trouble]
    news = [_counted(kind, number) for kind, number in counted if not kind.is_trouble]
    rounds = [event for event in events if event.kind == "round-ended"]
    state = ", ".join(bad)
    if rounds:
        total = sum(sum(one.counts.values()) for one in rounds)
        state = f"{state} of {total}" if bad and len(rounds) == 1 else state or _known_state(rounds, total)
        news = news or ["nothing changed"]
    told = ", ".join(filter(None, [state, *news])) + _elsewhere(rounds)
    return visible(f"{told[:1].upper()}{told[1:]}: {estate.settings.name}")


def _once_a_source(events: Sequence[Event]) -> Iterator[Event]:
    """Each kind of event once for a source."""
    yield from {(event.kind, event.source): event for event in events}.values()


def _counted(kind: EventKind, number: int) -> str:
    return f"{number} {kind.subject}" if kind.per_source else kind.subject


def _known_state(rounds: Sequence[Event], total: int) -> str:
    """The state of rounds without news: what they looked at, or that it is still as bad as people know already."""
    wrong = sum(one.counts.get(outcome, 0) for one in rounds for outcome in (Outcome.FAILED, Outcome.SUSPECT))
    many = f" in {len(rounds)} rounds" if len(rounds) > 1 else ""
    return f"{wrong} of {total} still not well{many}" if wrong else f"{total} collected{many}"


def _elsewhere(rounds: Sequence[Event]) -> str:
    """What still stands among the sources that the last of the rounds did not go to."""
    number = max(rounds, key=lambda one: one.at).elsewhere if rounds else 0
    return f"; {number} other{'s' * (number > 1)} still not well" if number else ""


# ---- the body -------------------------------------------------------------------------------------------------------


def _sections(events: Sequence[Event], estate: Estate) -> Iterator[Section]:
    items: dict[str, list[Item]] = {heading: [] for heading in _ORDER}
    instants = [event.at for event in events]
    long = bool(instants) and max(instants) - min(instants) > _SPAN
    for alike in _by_cause(event for event in events if event.kind not in ("changed", "round-ended")):
        when = f"{for_people(alike[0].at, estate.zone)} " if long else ""
        items[EVENT_KINDS[alike[0].kind].heading].append(_item(alike[0], when, [event.source or "" for event in alike]))
    items["Changed"] = list(_changes([event for event in events if event.kind == "changed"]))
    for heading, found in items.items():
        if len(found) > _ITEMS:
            rest = ", ".join(item.title.partition(":")[0] for item in found[_ITEMS : _ITEMS + _LISTED])
            rest += " …" * (len(found) > _ITEMS + _LISTED)
            found = [*found[:_ITEMS], Item(f"{len(found) - _ITEMS} more", (rest,))]
        if found:
            yield Section(heading, found)


def _by_cause(events: Iterable[Event]) -> list[list[Event]]:
    """Events one by one, but failures of several sources for the very same reason together."""
    causes: dict[tuple[str, ...], list[Event]] = {}
    for number, event in enumerate(events):
        name = event.source or ""
        if EVENT_KINDS[event.kind].by_cause and name:
            cause = cause_of(name, event.kind, event.message, event.advice, *event.details, *event.excerpt)
        else:
            cause = (str(number),)
        causes.setdefault(cause, []).append(event)
    return list(causes.values())


def _item(event: Event, when: str, sources: Sequence[str]) -> Item:
    words = EVENT_KINDS[event.kind].words
    if event.kind in ("new", "skipped"):
        return Item(f"{when}{event.source}: {visible(event.message)}")
    many = f", all {len(sources)} for the same reason" if len(sources) > 1 else ""
    title = f"{when}{_names(sources)}: {words}{many}" if event.source else f"{when}{words}"
    told = () if event.kind == "requirement-failed" else (event.message, *event.details)
    excerpt = event.excerpt[:_EXCERPT]
    more = len(event.excerpt) - len(excerpt)
    rest = ", ".join(sources[_NAMED : _NAMED + _LISTED]) + " …" * (len(sources) > _NAMED + _LISTED)
    lines = [*told, f"{more} more" if more else "", f"also: {rest}" if rest else ""]
    lines.append(f"try: {event.advice}" if event.advice else "")
    lines.append(f"look: {event.look}" if event.look else "")
    return Item(title, tuple(visible(line) for line in lines if line), tuple(map(visible, excerpt)))


def _changes(events: Sequence[Event]) -> Iterator[Item]:
    """What changed, equal changes of several sources reported once, grave ones first."""
    known = {(event.source or "", event.version or 0): event for event in events}
    found = families(
        Changed(event.source or "", event.version or 0, event.at, event.added, event.removed, event.families)
        for event in events
    )
    room = _LINES_IN_ALL
    for family in found:
        first = known[family.members[0].source, family.members[0].number]
        lines = list(_family_lines(family, first.lines))
        shown = lines[: min(_LINES_A_FAMILY, room)]
        room -= len(shown)
        left = len(lines) - len(shown)
        more = (f"{left} more: {first.look}",) if left > 0 else ()
        more = (*more, *family.remarks)
        yield Item(_family_title(family, first), more, tuple(map(visible, shown)))
    for event in events:
        if not is_packed(event.families):
            why = (_UNCOMPARED, f"look: {event.look}" if event.look else "")
            yield Item(visible(f"{event.source}: {event.message}"), tuple(visible(line) for line in why if line))


def _family_title(family: Family, first: Event) -> str:
    if len(family.members) == 1:
        return f"{first.source}: {first.message}"
    if len(family.sources) == 1:
        return f"{first.source}: the same in versions {', '.join(str(one.number) for one in family.members)}"
    return f"{_names(family.sources)}: the same on {len(family.sources)} sources"


def _names(sources: Sequence[str]) -> str:
    more = f" and {len(sources) - _NAMED} more" if len(sources) > _NAMED else ""
    return ", ".join(sources[:_NAMED]) + more


def _family_lines(family: Family, lines: Sequence[ChangedLine]) -> Iterator[str]:
    """The changes of a family as one of its members has them, each under its path, masked; parts are named."""
    part = None
    for line in lines:
        if line.key in family.keys:
            if line.part != part:
                part = line.part
                yield part
            yield f"{line.text} ({line.why})" if line.why else line.text


def _closing(events: Sequence[Event], estate: Estate, at: datetime) -> Iterator[str]:
    rounds = [event for event in events if event.kind == "round-ended"]
    for one in rounds[:1] if len(rounds) == 1 else ():
        told = visible(f"{one.message[:1].upper()}{one.message[1:]}")
        yield f"{told}, {one.counts.get(Outcome.UNCHANGED, 0)} of them unchanged."
        yield f"It ended {for_people(one.at, estate.zone, named=True)}. look: {one.look}"
    if len(rounds) > 1:
        total = sum(sum(one.counts.values()) for one in rounds)
        well = sum(one.counts.get(outcome, 0) for one in rounds for outcome in Outcome if outcome.good)
        yield f"{len(rounds)} rounds: {well} of {total} collections gave a good version."
    number = max(rounds, key=lambda one: one.at).elsewhere if rounds else 0
    if number:
        yield (
            f"Not collected in this round: {number} more whose last try failed or was suspect. look: historon status"
        )
    for remark in dict.fromkeys(remark for one in rounds for remark in one.details):
        yield visible(remark)
    if not rounds:
        yield f"{for_people(at, estate.zone, named=True)}. look: historon status"
