"""`historon status`: what it shows."""

from collections import Counter
from collections.abc import Sequence
from datetime import timedelta

import click

from historon.api import Board
from historon.cli.conditions import conditions_data, print_conditions
from historon.cli.output import STYLES, console, count, instant, print_json, print_table, printable, table
from historon.cli.styled import Text
from historon.estate import EVENT_KINDS, Estate, describe
from historon.store import Outcome
from historon.timetable import Freshness, SourceStatus

__all__ = ["print_all", "print_data"]

_SHOWN = 40
_NARROW, _WIDE = 100, 150  # columns below which instants are left out: the age says what counts
# What the table of sources shows of each.
_IN_ROWS = frozenset({"overdue", "age-unknown", "failing", "suspect", "requirement-failed", "not-proven"})
_PROOFS = {"proven": "green", "failed": "red", "unknown": "yellow"}
_WORST = (
    (Freshness.UNKNOWN, "of UNKNOWN AGE"),
    (Freshness.OVERDUE, "OVERDUE"),
    (Freshness.NEVER, "never collected"),
)
_WENT = ((Outcome.FAILED, "failed"), (Outcome.SUSPECT, "suspect"))
_KNOWN = (Freshness.FROZEN, Freshness.FRESH, Freshness.AGEING, Freshness.SKIPPED, Freshness.NO_LIMIT)


def print_data(stands: Board, by: str | None) -> None:
    """The state of all sources, for programs."""
    board = stands.sources
    rows = [_row(one) for one in board]
    if by is not None:
        rows = [_group_row(by, value, tally) for value, tally in _groups(board, by)]
    print_json("status", _headline(stands), rows, **_tally(board), conditions=conditions_data(stands.conditions))


def print_all(
    estate: Estate,
    stands: Board,
    by: str | None,
    *,
    everything: bool,
    clear: bool,
) -> None:
    """The state of all sources, as a person reads it."""
    board = stands.sources
    if clear:
        click.clear()
    grave = any(one.is_grave for one in stands.conditions)
    style = "bold green" if stands.well else "bold yellow"
    if grave:
        style = "bold red"
    console().print(Text(_headline(stands), style), soft_wrap=True)
    print_conditions(estate, [one for one in stands.conditions if one.kind not in _IN_ROWS])
    if by is not None:
        _print_groups(board, by)
    else:
        _print_board(estate, board, everything=everything)


def _headline(stands: Board) -> str:
    """What is wrong now, the worst first; else what is known to be well, and no more."""
    board = stands.sources
    ages = Counter(one.freshness for one in board)
    tries = Counter(one.state.outcome for one in board if one.ailing)
    total = count(len(board), "source")
    others = Counter(one.kind for one in stands.conditions if one.kind not in _IN_ROWS)
    told = [f"{number:,} {EVENT_KINDS[kind].subject}" for kind, number in others.items()]
    if not board:
        return "; ".join([*told, "no source"])
    worst = [f"{ages[age]:,} {word}" for age, word in _WORST if ages[age]]
    went = [f"{tries[outcome]:,} {word}" for outcome, word in _WENT if tries[outcome]]
    if worst:
        told.append(f"{', '.join(worst)} of {total}")
    if went and worst:
        told.append(f"{', '.join(went)} at the last try")
    elif went:
        told += [f"{', '.join(went)} of {total} at the last try", "none overdue yet"]
    if not (worst or went):
        known = [f"{ages[age]:,} {age}" for age in _KNOWN if ages[age]]
        told.append(f"{total}: {', '.join(known)}")
    unmet = Counter(one.requirements for one in board if not one.as_required)
    if unmet:
        states = ", ".join(f"{number:,} {state}" for state, number in sorted(unmet.items()))
        told.append(f"requirements: {states}")
    unproven = sum(one.unproven for one in board)
    if unproven:
        told.append(f"{unproven:,} NOT PROVEN")
    return "; ".join(told)


def _tally(board: Sequence[SourceStatus]) -> dict[str, object]:
    """How many there are of each age, for programs."""
    ages = Counter(one.freshness for one in board)
    return {
        "ages": {age.value: ages[age] for age in Freshness},
        "failed_at_last_try": sum(one.ailing for one in board),
    }


def _print_board(estate: Estate, board: Sequence[SourceStatus], *, everything: bool) -> None:
    urgent = [one for one in board if not one.well or one.freshness is Freshness.AGEING]
    shown = board if everything or len(board) <= _SHOWN else urgent[:_SHOWN]
    if shown:
        zone = estate.zone
        made = table(
            "age", "source", "last good", "last try", "requirements", "proof", f"last confirmed ({zone})", "made"
        )
        for one in shown:
            made.add_row(*_cells(estate, one))
        if all(one.requirements is None for one in board):
            made = made.without("requirements")
        if all(one.proof is None for one in board):
            made = made.without("proof")
        if console().width < _NARROW:
            made = made.without(f"last confirmed ({zone})")
        if console().width < _WIDE:
            made = made.without("made")
        print_table(made)
    if len(shown) < len(board):
        click.echo(f"not shown: {count(len(board) - len(shown), 'source')} (--all)")


def _groups(board: Sequence[SourceStatus], by: str) -> list[tuple[str, Counter[Freshness]]]:
    """A tally for each value of a label, those with the most trouble first."""
    groups: dict[str, Counter[Freshness]] = {}
    for one in board:
        groups.setdefault(one.source.labels.get(by, "-"), Counter())[one.freshness] += 1
    return sorted(groups.items(), key=lambda group: (-_troubles(group[1]), group[0]))


def _print_groups(board: Sequence[SourceStatus], by: str) -> None:
    found = _groups(board, by)
    used = [age for age in Freshness if any(tally[age] for _, tally in found)]
    made = table(by, "sources", *used, right=("sources", *used))
    for value, tally in found:
        numbers = [_number(age, tally[age]) for age in used]
        made.add_row(printable(value), str(tally.total()), *numbers)
    print_table(made)


def _number(age: Freshness, number: int) -> Text:
    return Text(str(number), STYLES[age]) if number else Text("·", "dim")


def _troubles(tally: Counter[Freshness]) -> int:
    return sum(tally[age] for age in Freshness if age.trouble)


def _cells(estate: Estate, one: SourceStatus) -> list[Text | str]:
    state, outcome = one.state, one.state.outcome or "-"
    requirements = one.requirements or "-"
    proof = one.proof.verdict if one.proof else "-"
    return [
        Text.assemble((f"{one.freshness:<9}", STYLES[one.freshness]), _age(one), _until(one)),
        printable(one.source.name),
        f"@{state.good}" if state.good is not None else "-",
        Text(outcome, STYLES.get(outcome, "")),
        Text(requirements, STYLES.get(requirements, "")),
        Text(proof, _PROOFS.get(proof, "")),
        instant(state.confirmed_at, estate.zone),
        instant(state.good_at, estate.zone),
    ]


def _until(one: SourceStatus) -> str:
    """Until when a freeze holds it, of one that is older than it may get for that."""
    return f" until {one.freeze.to}" if one.freshness is Freshness.FROZEN and one.freeze is not None else ""


def _age(one: SourceStatus) -> str:
    """How old, of how old it may get."""
    if one.freshness is Freshness.UNKNOWN and one.age is not None:
        return f"in {describe(-one.age)}" if one.age < timedelta() else "no date in it"
    age = describe(one.age) if one.age is not None else ""
    of = f" of {one.source.max_age}" if one.source.max_age and age else ""
    return f"{age}{of}{', no new export' if one.made_no_more else ''}"


def _row(one: SourceStatus) -> dict[str, object]:
    """A source, for programs."""
    return {
        "source": one.source.name,
        "age": one.freshness,
        "age_s": one.age,
        "max_age_s": one.source.max_age,
        "version": one.state.good,
        "version_from": one.state.good_at,
        "last_confirmed": one.state.confirmed_at,
        "dated": one.dated,
        "last_outcome": one.state.outcome,
        "last_tried": one.state.outcome_at,
        "requirements": one.requirements,
        "proof": str(one.proof) if one.proof else None,
        "frozen_until": str(one.freeze.to) if one.freeze is not None else None,
        "note": one.state.note,
        "labels": one.source.labels,
    }


def _group_row(by: str, value: str, tally: Counter[Freshness]) -> dict[str, object]:
    """The sources of one value of a label, for programs."""
    return {"label": by, "value": value, "sources": tally.total(), "ages": {age.value: tally[age] for age in Freshness}}
