"""`historon push`: what it shows."""

import shlex
from collections.abc import Mapping, Sequence

import click

from historon.api import Estate, Pushed, PushPlan
from historon.cli.differences import part_data, print_lines, print_outline
from historon.cli.output import count, instant, print_json, printable
from historon.compare import How, Kind, PartChange, compare_exports
from historon.insight import Weights
from historon.versions import belongs_to

__all__ = ["print_data", "print_plan", "print_pushed", "print_typed"]

_CONTEXT = 3
_ANSWERS = 10  # lines of which the answers are shown
_ANSWERED = 3  # lines of an answer


def print_plan(opened: Estate, plan: PushPlan) -> None:
    """The change that a push would make."""
    zone, source = opened.zone, opened.described.sources[plan.wanted.source]
    wanted = f"{source.name}@{plan.wanted.number}"
    if not plan.needed:
        click.echo(f"{printable(plan.what)} already matches {wanted} (noise ignored): nothing to push")
        return
    when = instant(plan.wanted.at, zone, named=True)
    click.echo(f"{source.name} was collected just now: it is {source.name}@{plan.present.number}.")
    if not plan.present.good:
        click.secho("This export is suspect, and was set aside: is it the real state of the source?", fg="yellow")
    piece = f"{printable(plan.only)} of " if plan.only is not None else ""
    click.echo(f"To push {piece}{wanted} of {when} changes:\n")
    _show_changes(_all_that_changes(opened, plan), opened.weights)
    _show_lines(opened, plan)
    for name in plan.removed:
        click.echo(f"{printable(name)} is not in that version: it is REMOVED")
    kept = [one.name for one in plan.difference.parts if one.name not in plan.contents and one.kind is Kind.REMOVED]
    for name in kept:
        if name not in plan.removed:
            click.echo(f"{printable(name)} is not in that version: it is kept, and listed as a remaining difference")
    click.echo(f"digest of this change: {plan.digest}")


def _show_lines(opened: Estate, plan: PushPlan) -> None:
    """Every line that is typed, to the letter but for secrets."""
    if not plan.lines:
        return
    typed = sum(map(len, plan.lines.values()))
    click.echo(f"{count(typed, 'command')} will be entered, exactly these:\n")
    masks = opened.masks(plan.wanted.source)
    for name, lines in plan.lines.items():
        if len(plan.lines) > 1:
            click.echo(f"  # {printable(name)}")
        for line in masks.seen("\n".join(lines)).split("\n") if lines else ():
            click.echo(f"  {printable(line)}")
    click.echo("")


def _all_that_changes(opened: Estate, plan: PushPlan) -> list[PartChange]:
    """The changes; of what is sent as a whole with those that are noise, of what is typed the lines say all."""
    sent = {name for name in plan.contents if name not in plan.lines}
    before = plan.difference.before.contents
    found = [one for one in plan.difference.parts if not any(belongs_to(one.name, name) for name in sent)]
    there = {name: before[name] for name in sent if name in before}
    masks = opened.masks(plan.wanted.source, with_noise=True)
    return found + compare_exports(there, {name: plan.contents[name] for name in sent}, masks)


def _show_changes(parts: Sequence[PartChange], weights: Weights) -> None:
    for change in parts:
        if change.edits and not change.structured:
            print_lines(change, _CONTEXT, weights)
        else:
            print_outline(change, weights)


def print_pushed(done: Pushed, weights: Weights) -> None:
    """What came of a push."""
    wanted = done.plan.wanted
    name, what = f"{wanted.source}@{wanted.number}", printable(done.plan.what)
    if done.failure is not None:
        click.secho(f"THE PUSH FAILED: {printable(str(done.failure))}", fg="red", err=True)
        if done.failure.hint:
            click.echo(f"  try: {printable(done.failure.hint)}", err=True)
        if done.failure.tail:
            click.echo(f"  answer: {printable(done.failure.tail.strip())}", err=True)
    if done.left is None:
        click.secho(f"the state of {wanted.source} is UNKNOWN: {printable(done.unknown)}", fg="red", err=True)
    elif not done.left.parts:
        click.secho(f"{what} now matches {name} (noise ignored)", fg="green")
    else:
        only_moved = all(_only_moved(part) for part in done.left.parts)
        told = "All of it is there, in another order" if only_moved else "Still different"
        click.secho(f"{what} does NOT match {name}. {told}, from now to then:\n", fg="red")
        _show_changes(done.left.parts, weights)
    for line, answer in done.answers[:_ANSWERS] if not done.well else ():
        words = [printable(one) for one in answer.strip().splitlines()[:_ANSWERED]]
        click.echo(f'it answered to "{printable(line)}": {" / ".join(words)}')
    if done.again:
        only = f" --only {shlex.quote(done.plan.only)}" if done.plan.only is not None else ""
        click.echo(f"one change may depend on another; push again: historon push {name}{only}")
    elif done.left is not None and done.left.parts and done.failure is None:
        click.echo("another push would send the same commands again: make the remaining changes by hand")
    click.echo(f"to go back: {done.plan.way_back}")


def _only_moved(part: PartChange) -> bool:
    return bool(part.changes) and all(change.how is How.MOVED for change in part.changes)


def print_typed(found: Mapping[str, Sequence[str]], *, as_json: bool) -> None:
    """The lines that lead to a version, part by part."""
    shown = {part: lines for part, lines in found.items() if lines}
    if as_json:
        rows = [{"part": part, "lines": lines} for part, lines in shown.items()]
        print_json("push-lines", f"{sum(map(len, shown.values()))} lines", rows)
        return
    for part, lines in shown.items():
        if len(shown) > 1:
            click.echo(f"# {printable(part)}")
        for line in lines:
            click.echo(printable(line))
    if any("[secret " in line for lines in shown.values() for line in lines):
        click.echo("secrets are hidden: --reveal shows them", err=True)


def print_data(opened: Estate, plan: PushPlan, done: Pushed | None) -> None:
    """The plan and what came of it, for programs."""
    wanted, rows = plan.wanted, [part_data(one, _CONTEXT, opened.weights) for one in plan.difference.parts]
    masks = opened.masks(wanted.source)

    def masked(lines: Sequence[str]) -> list[str]:
        return masks.seen("\n".join(lines)).split("\n") if lines else []

    left = None
    if done is not None and done.left is not None:
        left = [part_data(one, _CONTEXT, opened.weights) for one in done.left.parts]
    if done is None:
        headline = "needed" if plan.needed else "nothing to push"
    else:
        headline = "as wanted" if done.well else "NOT as wanted"
    print_json(
        "push",
        f"{wanted.source}@{wanted.number}: {headline}",
        rows,
        source=wanted.source,
        wanted=wanted.number,
        present=plan.present.number,
        digest=plan.digest,
        lines=[line for lines in plan.lines.values() for line in masked(lines)],
        removed=list(plan.removed),
        pushed=done is not None,
        well=done.well if done else None,
        failure=str(done.failure) if done and done.failure else None,
        again=done.again if done else None,
        left=left,
        way_back=plan.way_back,
    )
