"""The wording of a notice at the end of a round: what needs a hand first, then what changed, then what went well."""

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from datetime import datetime
from html import escape

from historon.collect import RoundReport, SourceResult
from historon.compare import Family, Plain, families, fingerprint, fingerprints, packed
from historon.estate import Estate, describe
from historon.notices.events import Event, Overdue, promise_events, round_events
from historon.store import Changed, Outcome

__all__ = ["Letter", "promise_letter", "round_letter"]

_LINES_A_SOURCE = 8
_LINES_IN_ALL = 80
_BREACHES = 6  # of one source that are told
_NAMED = 6  # sources of one family


@dataclass(frozen=True)
class Letter:
    """A notice in words, as plain text and as HTML, and in single events."""

    subject: str
    text: str
    html: str
    events: Sequence[Event] = ()


@dataclass(frozen=True)
class _Item:
    title: str
    lines: tuple[str, ...] = ()
    code: tuple[str, ...] = ()


def round_letter(report: RoundReport, estate: Estate) -> Letter:
    """What to tell of a round. Secrets are masked in it as they are on screen."""
    sections = {
        "Needs a hand": [*map(_trouble, report.troubles), *map(_breaches, report.broken)],
        "Changed": list(_changes(report, estate)),
        "As expected again": [_Item(f"{r.source}: {', '.join(r.mended)}") for r in report.mended],
        "New": [_Item(f"{result.source}: first version") for result in report.of(Outcome.FIRST)],
        "Skipped": [_Item(f"{result.source}: {result.note}") for result in report.of(Outcome.SKIPPED)],
    }
    if report.store_trouble:
        sections["Needs a hand"].insert(0, _Item("The store", (report.store_trouble,)))
    closing = _closing(report, estate)
    subject, events = _subject(report), list(round_events(report))
    return Letter(subject, _text(sections, closing), _html(subject, sections, closing), events)


def promise_letter(broken: Sequence[Overdue], kept: Sequence[str], estate: Estate, at: datetime) -> Letter:
    """What to tell of promises that broke, or are kept again, whether or not a round took place."""
    sections = {
        "Needs a hand": [_overdue(one) for one in broken],
        "Kept again": [_Item(f"{source}: its last good version is as new as promised") for source in kept],
    }
    state = f"{len(broken)} PROMISE{'S' * (len(broken) > 1)} BROKEN" if broken else "Promises kept again"
    news = f", {len(kept)} kept again" if broken and kept else f": {len(kept)}" if kept else ""
    subject = f"{state}{news}: {_visible(estate.settings.name)}"
    closing = [f"{at.astimezone(estate.zone):%Y-%m-%d %H:%M %Z}. The board: historon status"]
    events = list(promise_events(broken, kept))
    return Letter(subject, _text(sections, closing), _html(subject, sections, closing), events)


def _overdue(one: Overdue) -> _Item:
    age = f"is {describe(one.age)} old" if one.age is not None else "was never made"
    last = (f"last try: {_visible(one.note)}",) if one.note else ()
    return _Item(
        f"{one.source}: its last good version {age}, {describe(one.promise)} was promised",
        (*last, f"try: historon rehearse {one.source}"),
    )


def _subject(report: RoundReport) -> str:
    failed, suspect = report.count(Outcome.FAILED) - report.left_paused, report.count(Outcome.SUSPECT)
    total = len(report.results)
    bad = [
        f"{report.left_paused} LEFT PAUSED" * bool(report.left_paused),
        "STORE TROUBLE" * bool(report.store_trouble),
        f"{failed} FAILED" * bool(failed),
        f"{suspect} SUSPECT" * bool(suspect),
        f"{len(report.broken)} NOT AS EXPECTED" * bool(report.broken),
    ]
    state = f"{', '.join(filter(None, bad))} of {total}" if any(bad) else f"All {total} well"
    changed, new = report.count(Outcome.CHANGED), report.count(Outcome.FIRST)
    news = [f"{changed} changed" * bool(changed), f"{new} new" * bool(new)]
    name = "".join(char if char.isprintable() else " " for char in report.estate)
    return f"{state}, {', '.join(filter(None, news)) or 'nothing changed'}: {name}"


def _trouble(result: SourceResult) -> _Item:
    word = "the export looks wrong and was set aside" if result.outcome is Outcome.SUSPECT else "could not be collected"
    word = "LEFT PAUSED" if result.left_paused else word
    failure = result.failure
    if failure is None:
        return _Item(
            f"{result.source}: {word}",
            (result.note or "", f"look at it: historon show {result.source}@{result.number}"),
        )
    where = (f"at {failure.step}",) if failure.step else ()
    return _Item(
        f"{result.source}: {word}",
        (failure.message, *where, f"try: {failure.hint}"),
        tuple(failure.tail.splitlines()[-3:]),
    )


def _breaches(result: SourceResult) -> _Item:
    told = [_visible(str(one)) for one in result.broken[:_BREACHES]]
    more = [f"{len(result.broken) - _BREACHES} more"] * (len(result.broken) > _BREACHES)
    return _Item(f"{result.source}: not as expected", (*more, f"look: historon expect {result.source}"), tuple(told))


def _changes(report: RoundReport, estate: Estate) -> Iterator[_Item]:
    """What changed, equal changes of several sources told once, grave ones first."""
    results = {result.source: result for result in report.of(Outcome.CHANGED)}
    known = estate.sources
    plain = {name: Plain(known[name].own_names if name in known else (name,)) for name in results}
    found = families(
        Changed(
            name, result.number or 0, report.ended, result.added, result.removed,
            packed(fingerprints(result.changes, plain[name])),
        )
        for name, result in results.items()
    )  # fmt: skip
    room = _LINES_IN_ALL
    for family in found:
        first = results[family.members[0].source]
        lines = list(_family_lines(family, first, plain[first.source]))
        shown = lines[: min(_LINES_A_SOURCE, room)]
        room -= len(shown)
        left = len(lines) - len(shown)
        more = (f"{left} more: historon diff {first.source}",) if left > 0 else ()
        if family.odd:
            more = (*more, f"slightly other on {_names([one.source for one in family.odd])}")
        yield _Item(_family_title(family, first), more, tuple(map(_visible, shown)))


def _family_title(family: Family, first: SourceResult) -> str:
    if len(family.members) == 1:
        return f"{first.source}: version {first.number}, +{first.added} -{first.removed} lines"
    return f"{_names(family.sources)}: the same on {len(family.sources)} sources"


def _names(sources: Sequence[str]) -> str:
    more = f" and {len(sources) - _NAMED} more" if len(sources) > _NAMED else ""
    return ", ".join(sources[:_NAMED]) + more


def _family_lines(family: Family, result: SourceResult, plain: Plain) -> Iterator[str]:
    """The changes of a family as one of its members has them, each under its path, masked; parts are named."""
    for part in result.changes:
        own = [one for one in part.changes if fingerprint(part.name, one, plain).alike in family.alike]
        if own:
            yield part.name
        yield from (f"{one.sign} {one.path}: {one.words}" if one.path else f"{one.sign} {one.words}" for one in own)


def _visible(line: str) -> str:
    return "".join(char if char.isprintable() else "·" for char in line)


def _closing(report: RoundReport, estate: Estate) -> list[str]:
    well = report.count(Outcome.FIRST, Outcome.CHANGED, Outcome.UNCHANGED)
    when = report.began.astimezone(estate.zone)
    return [
        f"{well} of {len(report.results)} sources collected, {report.count(Outcome.UNCHANGED)} of them unchanged.",
        f"Round {report.number}, {when:%Y-%m-%d %H:%M} {when.tzname()}, took {describe(report.took)}."
        + (" It was interrupted." if report.interrupted else ""),
        *report.remarks,
    ]


def _text(sections: dict[str, list[_Item]], closing: list[str]) -> str:
    out = []
    for heading, items in sections.items():
        if items:
            out += [heading.upper(), ""]
            for item in items:
                out += [item.title, *(f"  {line}" for line in item.lines), *(f"    {line}" for line in item.code), ""]
    return "\n".join([*out, *closing]) + "\n"


def _html(subject: str, sections: dict[str, list[_Item]], closing: list[str]) -> str:
    out = [f"<h2 style='margin:0 0 12px'>{escape(subject)}</h2>"]
    for heading, items in sections.items():
        colour = "#a61b1b" if heading == "Needs a hand" else "#333"
        if items:
            out.append(f"<h3 style='color:{colour};margin:16px 0 6px'>{heading}</h3>")
        for item in items:
            out.append(f"<p style='margin:6px 0'><b>{escape(item.title)}</b>")
            out += [f"<br>{escape(line)}" for line in item.lines if line]
            out.append("</p>")
            if item.code:
                out.append("<pre style='background:#f4f4f2;padding:8px;margin:4px 0;font-size:12px'>")
                out.append("\n".join(map(_coloured, item.code)) + "</pre>")
    out.append("<p style='color:#555;margin-top:16px'>" + "<br>".join(map(escape, closing)) + "</p>")
    return f"<html><body style='font-family:sans-serif;font-size:14px;color:#222'>{''.join(out)}</body></html>"


def _coloured(line: str) -> str:
    colour = {"+": "#1a6b2a", "-": "#a61b1b"}.get(line[:1])
    return f"<span style='color:{colour}'>{escape(line)}</span>" if colour else escape(line)
