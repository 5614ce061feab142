"""`historon collect`: what it shows."""

import sys
from collections.abc import Sequence
from typing import Self

import click

from historon.cli.output import STYLES, console, count, excerpt, print_failure, print_json, print_labelled, printable
from historon.cli.styled import Screen, Text
from historon.collect import Failure, Observer, RoundReport, SourceBegan, SourceResult, SourceStep
from historon.estate import describe
from historon.notices import DeliveryResult
from historon.store import Outcome

__all__ = ["Shown", "failure_data", "print_data", "print_end"]

_UNMET = 6  # of one source that are reported


class Shown:
    """What is shown while a round runs: nothing, a bar, or a line for each source; steps beside it when asked for."""

    def __init__(self, total: int, *, quiet: bool, verbose: int) -> None:
        if quiet:
            self._screen = _Silent()
        else:
            self._screen = _Bar(total) if sys.stdout.isatty() else _Lines()
        self._shown: Observer | None = None
        self._verbose = verbose

    def __enter__(self) -> Self:
        return self

    def __exit__(self, *_: object) -> None:
        self.end()

    def tell(self, event: SourceBegan | SourceStep | SourceResult) -> None:
        """Hear of a source."""
        if isinstance(event, SourceStep):
            _tell_step(event, self._verbose)
            return
        if self._shown is None:
            self._shown = self._screen.__enter__()
        self._shown(event)

    def end(self) -> None:
        """The round is over, or somebody is asked something."""
        if self._shown is not None:
            self._screen.__exit__()
            self._shown = None


def _tell_step(step: SourceStep, verbose: int) -> None:
    """Beside the results, on standard error."""
    if verbose:
        click.echo(f"{step.source}: {printable(step.place)}  {describe(step.taken.took)}", err=True)
    for line in excerpt(step.answer) if verbose > 1 else ():
        click.echo(f"{step.source}:   | {line}", err=True)


class _Silent:
    """What is shown while a round runs: here nothing."""

    def __enter__(self) -> Observer:
        return lambda event: None

    def __exit__(self, *_: object) -> None:
        return None


class _Lines(_Silent):
    """A plain line for each source, as soon as it is done."""

    def __enter__(self) -> Observer:
        return self._tell

    def _tell(self, event: SourceBegan | SourceStep | SourceResult) -> None:
        if isinstance(event, SourceResult):
            click.echo(printable("  ".join(filter(None, _words(event)))).rstrip())
            sys.stdout.flush()


class _Bar(_Silent):
    """A progress bar, with a line above it for each source that has something to tell."""

    def __init__(self, total: int) -> None:
        from rich.progress import BarColumn, MofNCompleteColumn, Progress, TextColumn, TimeElapsedColumn

        self._progress = Progress(
            TextColumn("collecting"),
            BarColumn(),
            MofNCompleteColumn(),
            TimeElapsedColumn(),
            TextColumn("{task.fields[busy]}"),
            console=console().rich,
            transient=True,
        )
        self._task = self._progress.add_task("", total=total, busy="")
        self._busy: dict[str, None] = {}

    def __enter__(self) -> Observer:
        self._progress.start()
        return self._tell

    def __exit__(self, *_: object) -> None:
        self._progress.stop()

    def _tell(self, event: SourceBegan | SourceStep | SourceResult) -> None:
        if isinstance(event, SourceBegan):
            self._busy[event.source] = None
        elif isinstance(event, SourceResult):
            self._busy.pop(event.source, None)
            self._progress.advance(self._task)
            if event.outcome is not Outcome.UNCHANGED or event.note:
                self._progress.console.print(_styled(event))
        self._progress.update(self._task, busy=", ".join(list(self._busy)[:3]))


def _words(result: SourceResult) -> tuple[str, str, str, str]:
    number = f"@{result.number}" if result.number is not None and result.outcome is not Outcome.UNCHANGED else ""
    told = result.outcome in (Outcome.CHANGED, Outcome.SUSPECT) and (result.added or result.removed)
    lines = f"+{result.added} -{result.removed}" if told else ""
    # Of what went wrong, all is reported at the end.
    why = "" if result.outcome in (Outcome.FAILED, Outcome.SUSPECT) else result.note or ""
    return f"{result.source:<24}", f"{result.outcome:<9}", f"{number} {lines}".strip(), why


def _styled(result: SourceResult) -> Text:
    source, outcome, lines, why = map(printable, _words(result))
    return Text.assemble(source, "  ", (outcome, STYLES[result.outcome]), "  ", lines, "  " * bool(lines), (why, "dim"))


def print_end(report: RoundReport, told: Sequence[DeliveryResult]) -> None:
    """What became of a round, and of its notices."""
    sys.stdout.flush()
    trouble = console(stderr=True)
    _print_troubles(report, trouble)
    _print_requirements(report, trouble)
    _print_summary(report, console(), trouble)
    for one in told:
        if one.trouble:
            waits = "; queued for another try: historon notices" if one.waits else ""
            click.echo(f"historon: notice not sent to {one.channel}: {printable(one.trouble)}{waits}", err=True)
    if report.store_trouble:
        click.echo(f"historon: the store is in trouble: {printable(report.store_trouble)}", err=True)


def _print_troubles(report: RoundReport, screen: Screen) -> None:
    for alike in report.troubles_by_cause:
        result = alike[0]
        screen.print()
        if result.failure:
            print_failure(screen, [one.source for one in alike], result.failure)
            continue
        screen.print(Text(f"{result.source}: {result.outcome}", style=STYLES[result.outcome]))
        print_labelled(screen, "what", printable(result.note or ""))
        print_labelled(screen, "look", result.look)


def _print_requirements(report: RoundReport, screen: Screen) -> None:
    for result in report.failing_requirements:
        screen.print(Text(f"\n{result.source}: a requirement is not met", style=STYLES["suspect"]))
        for one in result.unmet[:_UNMET]:
            print_labelled(screen, "what", printable(str(one)))
        print_labelled(screen, "look", f"historon requirements {result.source}")
    for result in report.meeting_again:
        screen.print(Text(f"{result.source}: meets again: {printable(', '.join(result.met_again))}", "green"))


def _print_summary(report: RoundReport, screen: Screen, trouble: Screen) -> None:
    line = Text(f"\n{_round_words(report)}: ")
    parts = [(f"{number} {outcome}", STYLES[outcome]) for outcome, number in report.tally.items()]
    for index, part in enumerate(parts):
        line.append(", " if index else "").append(*part)
    if report.interrupted:
        line.append("; it was interrupted", "yellow")
    if report.not_resumed:
        line.append(f"; {report.not_resumed} NOT RESUMED", STYLES["failed"])
    screen.print(line)
    if first := report.count(Outcome.NEW):
        which = f"the first versions of {first:,} sources" if first > 1 else "the first version"
        screen.print(Text(f"remark: look at {which}: no earlier one was there to compare (historon show SOURCE)"))
    for remark in report.remarks:
        trouble.print(Text(f"remark: {printable(remark)}", style=STYLES["suspect"]))


def _round_words(report: RoundReport) -> str:
    return f"round {report.number}: {count(len(report.results), 'source')} in {describe(report.took)}"


def print_data(report: RoundReport, told: Sequence[DeliveryResult]) -> None:
    """The same, for programs."""
    outcomes = {outcome.value: report.count(outcome) for outcome in Outcome}
    known = ", ".join(f"{number} {outcome}" for outcome, number in outcomes.items() if number)
    print_json(
        "collect",
        f"{_round_words(report)}: {known}",
        [_result_data(result) for result in report.results],
        round=report.number,
        began=report.began,
        took_s=report.took,
        interrupted=report.interrupted,
        store_trouble=report.store_trouble,
        outcomes=outcomes,
        not_resumed=report.not_resumed,
        remarks=report.remarks,
        notices=[{"channel": one.channel, "trouble": one.trouble, "queued": one.waits} for one in told],
    )


def _result_data(result: SourceResult) -> dict[str, object]:
    failure = result.failure
    return {
        "source": result.source,
        "outcome": result.outcome,
        "version": result.number,
        "added": result.added,
        "removed": result.removed,
        "took_s": result.took,
        "note": result.note,
        "requirements_failed": [str(one) for one in result.unmet],
        "requirements_met_again": result.met_again,
        "failure": failure and failure_data(failure),
    }


def failure_data(failure: Failure) -> dict[str, object]:
    """Why a source failed, for programs."""
    return {
        "kind": failure.kind,
        "step": failure.step,
        "message": failure.message,
        "hint": failure.hint,
        "tail": failure.tail,
    }
