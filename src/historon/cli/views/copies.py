"""`historon copies`: what it shows."""

from collections import Counter
from collections.abc import Sequence
from datetime import datetime

import click

from historon.cli.output import count, instant, print_json, print_table, printable, table
from historon.copies import THE_STORE, Compared, CopyStatus
from historon.estate import Copy, Estate, describe

__all__ = ["headline", "print_all", "print_compared", "row"]

_SHOWN = 5  # damages of a copy
_COMPARED = 20


def headline(statuses: Sequence[CopyStatus], now: datetime) -> str:
    """How the copies stand, in one line."""
    if not statuses:
        return "there is no copy: add one to [copies] in the estate file"
    counted = Counter(_word(one, now) for one in statuses)
    told = [f"{counted[word]} {word}" for word in _WORDS if counted[word]]
    return f"{count(len(statuses), 'copy', 'copies')}: {', '.join(told)}"


_WORDS = ("REFUSED", "DAMAGED", "DIFFERENT", "MISSING", "BEHIND for too long", "behind", "up to date")


def _word(one: CopyStatus, now: datetime) -> str:
    if one.state == "behind" and one.overdue(now):
        return "BEHIND for too long"
    return one.state if one.state in _WORDS else one.state.upper()


def print_all(statuses: Sequence[CopyStatus], estate: Estate, now: datetime) -> None:
    """Each copy with its state."""
    click.echo(headline(statuses, now))
    made = table("copy", "kind", "state", f"as of ({estate.zone})", "where", wrap=("where",))
    for one in statuses:
        at = instant(one.at, estate.zone) if one.at else "never"
        made.add_row(one.name, one.copy.kind, _state(one, now), at, printable(_where(one.copy, estate)))
    if statuses:
        print_table(made)
    for one in statuses:
        if one.refused:
            click.echo(f"{one.name}: {printable(one.refused)}")
        for damage in one.damages[:_SHOWN]:
            click.echo(f"{one.name}: {printable(str(damage))}")
        if one.damaged > _SHOWN:
            click.echo(f"{one.name}: {one.damaged - _SHOWN} more")
        if one.refused:
            click.echo("  try: historon copies --compare")
        elif one.damaged or one.is_gone:
            click.echo(f"  try: historon copies {one.name} --update")


def _where(copy: Copy, estate: Estate) -> str:
    return copy.place if copy.writes_to is None else str(estate.path(copy.path))


def _state(one: CopyStatus, now: datetime) -> str:
    behind = one.behind(now)
    if one.state == "damaged":
        return f"DAMAGED: {count(one.damaged, 'damage')} found"
    if one.is_wrong:
        return one.state.upper()
    if behind is None:
        if one.left_out:
            return f"up to date except {count(one.left_out, 'part')}"
        return "up to date"
    return f"{'BEHIND' if one.overdue(now) else 'behind'} for {describe(behind)} of {one.copy.max_lag}"


def row(one: CopyStatus, now: datetime) -> dict[str, object]:
    """A copy, for programs."""
    behind = one.behind(now)
    state = "behind for too long" if one.state == "behind" and one.overdue(now) else one.state
    return {
        "copy": one.name,
        "kind": one.copy.kind,
        "path": one.copy.place,
        "state": state,
        "as_of": one.at,
        "left_out": one.left_out,
        "refused": one.refused or None,
        "damaged": one.damaged,
        "missing_since": one.missing_since,
        "lag_s": behind,
        "max_lag_s": one.copy.max_lag,
    }


def print_compared(found: Compared, *, as_json: bool) -> None:
    """The versions on which places do not agree, and what each of them holds."""
    headline = f"{count(found.versions, 'version')} compared: "
    headline += f"{len(found.differing):,} NOT THE SAME everywhere" if found.differing else "the same everywhere"
    if found.unknown:
        headline += f"; UNKNOWN in {', '.join(found.unknown)}"
    if found.others:
        headline += f"; {', '.join(found.others)} BELONG{'S' * (len(found.others) == 1)} TO ANOTHER STORE"
    rows: list[dict[str, object]] = [
        {
            "source": one.source,
            "version": one.number,
            "places": [{"place": place, "sha256": digest} for place, digest in one.places.items()],
        }
        for one in found.differing
    ]
    if as_json:
        unknown = [{"copy": copy, "why": why} for copy, why in found.unknown.items()]
        print_json("copies-compare", headline, rows, unknown=unknown, others=found.others)
        return
    click.echo(headline)
    for one in found.differing[:_COMPARED]:
        click.echo(f"{one.source}@{one.number}:")
        by_digest: dict[str, list[str]] = {}
        for place, digest in one.places.items():
            by_digest.setdefault(digest, []).append(place)
        for digest, places in sorted(by_digest.items(), key=lambda each: -len(each[1])):
            click.echo(f"  {digest[:16]}  {', '.join(places)}")
        if THE_STORE not in one.places:
            click.echo(f"  {'-' * 16}  {THE_STORE} does not have it, and no removal is on record")
    if len(found.differing) > _COMPARED:
        click.echo(f"{len(found.differing) - _COMPARED} more: --json")
    for place, why in found.unknown.items():
        click.echo(f"{place} could not be read: {printable(why)}")
