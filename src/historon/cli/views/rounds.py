"""`historon rounds`: what it shows."""

import re
from collections import Counter
from collections.abc import Mapping, Sequence
from datetime import timedelta, tzinfo
from itertools import groupby

import click

from historon.cli.output import STYLES, count, instant, print_table, printable, table
from historon.cli.styled import Text
from historon.estate import describe
from historon.store import Outcome, Removed, Round, Visit

__all__ = [
    "print_removed",
    "print_rounds",
    "print_visits",
    "removed_row",
    "round_row",
    "rounds_headline",
    "visit_row",
    "visits_headline",
]


def print_removed(removed: Sequence[Removed]) -> None:
    """What was pruned after the round."""
    if not removed:
        return
    click.echo(f"\nremoved after this round ({count(len(removed), 'version')}):")
    for (source, rule), group in groupby(removed, key=lambda one: (one.source, one.rule)):
        numbers = " ".join(f"@{one.number}" for one in group)
        click.echo(f"  {source} {numbers}  {rule or ''}".rstrip())


def removed_row(one: Removed) -> dict[str, object]:
    """One of them, for programs."""
    digest = None if one.sha256 is None else one.sha256.hex()
    return {
        "source": one.source,
        "version": one.number,
        "at": one.at,
        "sha256": digest,
        "rule": one.rule,
        "removed_at": one.gone,
    }


def rounds_headline(rounds: Sequence[Round], endings: Mapping[int, str]) -> str:
    """How many rounds there are, in one line."""
    if not rounds:
        return "no round yet: historon collect"
    last = rounds[0]
    ending = f"; {endings[last.number]}" if last.number in endings else ""
    return f"the last of {count(last.number, 'round')}: {_outcomes(last.outcomes)}{ending}"


def _outcomes(outcomes: Mapping[Outcome, int]) -> str:
    return ", ".join(f"{outcomes[one]} {one}" for one in Outcome if outcomes.get(one)) or "nothing collected"


def print_rounds(rounds: Sequence[Round], endings: Mapping[int, str], headline: str, zone: tzinfo) -> None:
    """Each round in a line."""
    click.echo(headline)
    made = table("round", f"began ({zone})", "took", "outcomes", right=("round",), wrap=("outcomes",))
    for one in rounds:
        took = describe(one.ended - one.began) if one.ended else endings[one.number]
        made.add_row(str(one.number), instant(one.began, zone), took, _tally(one.outcomes))
    if rounds:
        print_table(made)


def _tally(outcomes: Mapping[Outcome, int]) -> Text:
    made = Text()
    for one in Outcome:
        if outcomes.get(one):
            made.append(", " if made.plain else "").append(f"{outcomes[one]} {one}", STYLES[one])
    return made


def visits_headline(number: int, visits: Sequence[Visit]) -> str:
    """A round in one line."""
    tally = Counter(visit.outcome for visit in visits)
    return f"round {number}: {count(len(visits), 'source')}: {_outcomes(tally)}"


def print_visits(number: int, visits: Sequence[Visit], *, steps: bool) -> None:
    """What became of each source in a round."""
    click.echo(visits_headline(number, visits))
    step = "step" if steps else "longest step"
    columns = ("source", "outcome", "version", "waiting", "working", step, "note")
    made = table(*columns, wrap=(step, "note") if steps else ("note",))
    for visit in visits:
        version = f"@{visit.number}" if visit.number is not None else ""
        outcome = Text(visit.outcome, STYLES[visit.outcome])
        longest = max(visit.steps, key=lambda step: step[1], default=None)
        where = f"{describe(longest[1])} in {_short(longest[0])}" if longest and not steps else ""
        note = printable(visit.note or "")
        working = sum((took for _, took in visit.steps), timedelta()) if visit.steps else visit.took
        waiting = describe(visit.took - working) if visit.took > working else ""
        made.add_row(visit.source, outcome, version, waiting, describe(working), Text(printable(where), "dim"), note)
        for place, took in visit.steps if steps else ():
            made.add_row("", "", "", "", describe(took), Text(printable(place), "dim"), "")
    print_table(made)


def _short(place: str) -> str:
    """`step 2`, or `step 2.1` for the first within the second."""
    return f"step {'.'.join(re.findall(r'step ([0-9]+) of', place))}"


def round_row(one: Round, endings: Mapping[int, str]) -> dict[str, object]:
    """A round, for programs."""
    return {
        "round": one.number,
        "began": one.began,
        "ended": one.ended,
        "ending": endings.get(one.number, "ended"),
        "trigger": one.trigger,
        "outcomes": {outcome.value: one.outcomes.get(outcome, 0) for outcome in Outcome},
    }


def visit_row(visit: Visit) -> dict[str, object]:
    """A source in a round, for programs."""
    return {
        "source": visit.source,
        "outcome": visit.outcome,
        "version": visit.number,
        "at": visit.at,
        "took_s": visit.took,
        "note": visit.note,
        "steps": [{**_step_data(place), "took_s": took} for place, took in visit.steps],
    }


def _step_data(place: str) -> dict[str, object]:
    """Where a step stands in its procedure: `[2, 1]` for the first step within the second; and what it does."""
    numbers = [int(one) for one in re.findall(r"step (\d+) of \d+", place)]
    return {"number": numbers, "what": place[place.rfind(" (") + 2 :].removesuffix(")")}
