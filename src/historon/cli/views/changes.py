"""`historon changes`: what it shows."""

from collections.abc import Sequence
from datetime import tzinfo
from itertools import islice
from typing import Any

import click

from historon.api import Changes, Estate
from historon.base.errors import UsageError
from historon.cli.differences import change_data, change_text
from historon.cli.output import console, count, instant, print_json, printable
from historon.cli.styled import Text
from historon.estate import in_words
from historon.insight import GRAVE, Family, Variant, Weights
from historon.store import Changed, Store

__all__ = ["as_data", "headline", "print_all", "print_closer"]

_CHANGES = 6  # of one family in the list
_NAMED = 4  # sources of one family in the list
_WORD = 8  # columns for what a family concerns


def _is_date(since: str) -> bool:
    return since[:4].isdigit() and "-" in since


def print_all(
    opened: Estate, changes: Changes, groups: Sequence[tuple[str, Sequence[Family]]], limit: int | None
) -> None:
    """Each change once, what matters most first."""
    screen = console()
    for group, some in groups:
        if group:
            screen.print(Text(printable(group), style="bold reverse"))
        for one in islice(some, limit):
            _print_family(opened, changes, one)
        if limit is not None and len(some) > limit:
            screen.print(Text(f"{count(len(some) - limit, 'more family', 'more families')} (--all)\n", "dim"))


def _why_nothing(store: Store, family: Family) -> str:
    """Why there is nothing to show of a family that was recorded."""
    there = any(
        store.version(one.source, one.number) and store.version(one.source, one.number - 1) for one in family.members
    )
    if there:
        return "nothing left to show: hidden by the current noise and secret settings"
    return "its versions, or the ones before them, were pruned"


def _print_family(opened: Estate, changes: Changes, family: Family) -> None:
    screen = console()
    form = next(changes.forms(family, most=1), None)
    named = sorted({part for part, _ in form.changes}) if form else []
    parts = ", ".join(named[:_NAMED])
    word = Text(f"{family.concern.word:<{_WORD}}", _style(family))
    names = family.sources
    who = ", ".join(names[:_NAMED]) + (f" and {len(names) - _NAMED} more" if len(names) > _NAMED else "")
    head = Text.assemble(word, (printable(who), "bold"), (f"  {_when(family, opened.zone)}", "dim"))
    head.append(f"  {family.handle}", "cyan").append(f"  {printable(parts)}", "dim")
    screen.print(head, soft_wrap=True)
    if form is None:
        screen.print(Text(" " * _WORD + _why_nothing(opened.store, family), style="dim"))
    else:
        weights = opened.weights
        grave_first = sorted((change for _, change in form.changes), key=lambda one: -weights.of(one).number)
        for change in grave_first[:_CHANGES]:
            screen.print(" " * _WORD, change_text(change, weights), sep="", soft_wrap=True)
        if len(form.changes) > _CHANGES:
            screen.print(Text(" " * _WORD + f"and {len(form.changes) - _CHANGES} more", style="dim"))
    for remark in family.remarks:
        screen.print(Text(" " * _WORD + printable(remark), style="yellow" if family.unlike else "dim"))
    screen.print()


def _style(family: Family) -> str:
    if family.weight >= GRAVE:
        return "bold red"
    return "yellow" if family.weight else "dim"


def _when(family: Family, zone: tzinfo) -> str:
    first, last = instant(family.first, zone), instant(family.last, zone)
    if first == last:
        return first
    return f"{first} to {last[11:] if last[:10] == first[:10] else last}"


def headline(changes: Changes, since: str) -> str:
    """How many changes there are, in one line."""
    span = f"since {since}" if _is_date(since) else f"in the last {in_words(since)}"
    sources = len({one.source for one in changes.changed})
    if not changes.changed:
        return f"no change recorded {span}"
    told = count(len(changes.families), "family", "families")
    return f"{count(len(changes.changed), 'changed version')} of {count(sources, 'source')} in {told} {span}"


def print_closer(opened: Estate, changes: Changes, handle: str, since: str, *, as_json: bool) -> None:
    """One family: each form with those who have it."""
    family = next((one for one in changes.families if one.handle == handle), None)
    if family is None:
        raise UsageError(
            f'no family "{handle}" among the changes since {since}', hint="look further back, such as --since 30d"
        )
    if as_json:
        data = as_data(opened, changes, family, "", every=True)
        print_json("family", f"family {handle}: {count(len(family.members), 'version')}", data.pop("forms"), **data)
        return
    screen = console()
    for form in changes.forms(family):
        for part, change in form.changes:
            screen.print(change_text(change, opened.weights), Text(f"  ({printable(part)})", style="dim"), sep="")
        for one in form.members:
            when = instant(one.at, opened.zone)
            screen.print(Text.assemble("    ", (printable(f"{one.source}@{one.number}"), "bold"), (f"  {when}", "dim")))
        screen.print()
    one = family.members[0]
    click.echo(f"to see one whole: historon diff {one.source}@{one.number - 1} {one.source}@{one.number}")


def as_data(opened: Estate, changes: Changes, family: Family, group: str, *, every: bool = False) -> dict[str, Any]:
    """A change, for programs."""
    forms = list(changes.forms(family, most=None if every else 1))
    return {
        "handle": family.handle,
        "group": group or None,
        "concern": family.concern.word,
        "weight": family.weight,
        "first": family.first,
        "last": family.last,
        "members": [_member(one) for one in family.members],
        "own": family.own,
        "alternates": family.to_and_fro,
        "undoes": family.undoes.handle if family.undoes else None,
        "differs_from": family.unlike.handle if family.unlike else None,
        "forms": [_form(form, opened.weights, every=every) for form in forms],
    }


def _form(form: Variant, weights: Weights, *, every: bool) -> dict[str, object]:
    changes = [{"part": part, **change_data(change, weights)} for part, change in form.changes]
    told: dict[str, object] = {"changes": changes}
    if every:
        told["members"] = [_member(one) for one in form.members]
    return told


def _member(one: Changed) -> dict[str, object]:
    return {"source": one.source, "version": one.number, "at": one.at}
