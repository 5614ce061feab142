"""`historon rehearse`."""

import os
import pwd
import shlex
import subprocess
import sys
from typing import Any

import click

from historon.api import Estate
from historon.base.errors import ExitCode, OutsideError, UsageError
from historon.base.quantities import size_text
from historon.cli.app import App, estate_option, example, json_option, pass_app, where_option
from historon.cli.output import STYLES, console, count, excerpt, print_failure, print_json, printable
from historon.cli.styled import Text
from historon.cli.views.collect import failure_data
from historon.collect import Rehearsal, StepTaken
from historon.estate import ENVIRONMENT_FILE, Source, describe, select, temporary_places, written_places
from historon.estate import Estate as EstateFile
from historon.store import Outcome, Part

__all__ = ["command"]

_NAMED = 2


@click.command("rehearse", epilog=example("historon rehearse edge-1", "historon rehearse edge-1 --as-service"))
@click.argument("names", nargs=-1, metavar="[SOURCE]...")
@where_option
@click.option("--as-service", is_flag=True, help="Run with the minimal environment that cron gives.")
@click.option("--user", metavar="NAME", help="With --as-service: run as this account.")
@estate_option
@json_option
@pass_app
def command(
    app: App,
    names: tuple[str, ...],
    where: tuple[str, ...],
    *,
    as_service: bool,
    user: str | None,
    estate_file: str | None,
    as_json: bool,
) -> int:
    """Test the procedure of a source; nothing is stored.

    Takes every step for real. Shows how long each took, how its answer begins and ends, the verdict of the inspection,
    and the outcome that a round would record. The exit code is 3 when a source would fail or be suspect.
    """
    if not names and not where:
        raise UsageError("no source is named", hint="historon rehearse SOURCE")
    if as_service:
        estate = app.estate(estate_file)
        chosen = tuple(source.name for source in select(estate, names, where))
        return _as_service(estate, chosen, user, as_json=as_json)
    if user:
        raise UsageError("--user is the account of a service", hint=f"add --as-service --user {user}")
    with app.opened(estate_file) as opened:
        if as_json:
            taken: dict[str, list[StepTaken]] = {source.name: [] for source in opened.select(*names, where=where)}
            rehearsals = [opened.source(name).rehearse(observer=steps.append) for name, steps in taken.items()]
            rows = [_row(one, taken[one.source]) for one in rehearsals]
            print_json("rehearse", f"{count(len(rows), 'source')} rehearsed", rows)
        else:
            rehearsals = [_rehearse(opened, source) for source in opened.select(*names, where=where)]
    well = all(one.not_now or (one.judged and not one.judged.doubts) for one in rehearsals)
    return ExitCode.WELL if well else ExitCode.SOURCES


def _as_service(estate: EstateFile, names: tuple[str, ...], user: str | None, *, as_json: bool) -> int:
    """The same command again, with cron's environment (crontab(5)): a short PATH, no agent, no terminal to read."""
    account = _account(user)
    environment = {"PATH": "/usr/bin:/bin", "HOME": account.pw_dir, "SHELL": "/bin/sh", "LOGNAME": account.pw_name}
    environment |= _variables(estate)
    click.echo(f"as {account.pw_name}. Not imitated: a unit can write only to these:", err=True)
    click.echo(f"  {', '.join(written_places(estate))}", err=True)
    places = temporary_places(estate)
    if places:
        click.echo(f"not imitated: a service may have its own folder instead of {places[0].parent}", err=True)
    form = ["--json"] if as_json else []
    words = [sys.executable, "-m", "historon", "rehearse", *form, "--estate", str(estate.file), "--", *names]
    other: dict[str, Any] = {}
    if account.pw_uid != os.geteuid():
        groups = os.getgrouplist(account.pw_name, account.pw_gid)
        other = {"user": account.pw_uid, "group": account.pw_gid, "extra_groups": groups}
    home = account.pw_dir if os.path.isdir(account.pw_dir) else "/"
    try:
        done = subprocess.run(words, cwd=home, env=environment, stdin=subprocess.DEVNULL, check=False, **other)
    except OSError as exc:
        message = f"{account.pw_name} cannot run {sys.executable}: {exc.strerror}"
        raise OutsideError(message, hint="install Historon where this account can read it") from exc
    return done.returncode


def _account(user: str | None) -> pwd.struct_passwd:
    """The account that the service is to be. Raises UsageError, OutsideError."""
    mine = pwd.getpwuid(os.geteuid())
    if user in (None, mine.pw_name):
        return mine
    try:
        account = pwd.getpwnam(user)
    except KeyError as exc:
        raise UsageError(f"there is no account {user}", hint="create it, or name another one") from exc
    if os.geteuid() != 0:
        raise OutsideError(f"only root can become {user}", hint=f"run this as {user}, or as root")
    return account


def _variables(estate: EstateFile) -> dict[str, str]:
    """The variables that the unit takes from the file beside the estate file (systemd.exec(5), EnvironmentFile)."""
    try:
        text = (estate.folder / ENVIRONMENT_FILE).read_text(encoding="utf-8")
    except FileNotFoundError:
        return {}
    except (OSError, UnicodeError) as exc:
        raise OutsideError(f"{estate.folder / ENVIRONMENT_FILE}: {exc}", hint="check the file and its mode") from exc
    try:
        lines = [shlex.split(line, comments=True) for line in text.splitlines()]
    except ValueError as exc:
        raise OutsideError(f"{estate.folder / ENVIRONMENT_FILE}: {exc}", hint="write one NAME=value a line") from exc
    return dict(line[0].split("=", 1) for line in lines if line and "=" in line[0])


def _rehearse(opened: Estate, source: Source) -> Rehearsal:
    screen = console()
    procedure = opened.described.procedure_of(source)
    screen.print(Text(f"{source.name}: {source.procedure} over {procedure.over}", style="bold"))
    steps: list[StepTaken] = []
    done = opened.source(source.name).rehearse(observer=steps.append)
    for step in steps:
        gave = ", ".join(map(_about, step.parts))
        if len(step.parts) > _NAMED:
            gave = f"{len(step.parts)} parts ({size_text(sum(part.size for part in step.parts))})"
        screen.print(
            Text(f"  {printable(done.masks.told(step.place))}  {describe(step.took)}  {printable(gave)}".rstrip())
        )
        for line in excerpt(done.masks.hide(step.answer)):
            screen.print(Text(f"    | {line}", style="dim"))
    if done.failure:
        print_failure(screen, [source.name], done.failure)
    elif done.not_now:
        screen.print(Text(f"  a round would skip it: {printable(done.not_now)}"))
    elif done.judged:
        outcome = done.judged.outcome
        for word, lines in (("doubtful", done.judged.doubts), ("remark", done.remarks)):
            for line in lines:
                screen.print(Text(f"  {word}: {printable(done.masks.told(line))}", style=STYLES[Outcome.SUSPECT]))
        grown = f"  +{done.judged.added} -{done.judged.removed}" if done.judged.added or done.judged.removed else ""
        screen.print(Text.assemble("  a round would record: ", (outcome, STYLES[outcome]), grown))
    return done


def _row(done: Rehearsal, steps: list[StepTaken]) -> dict[str, object]:
    """A rehearsal, for programs."""
    judged, failure = done.judged, done.failure
    return {
        "source": done.source,
        "outcome": Outcome.FAILED if failure else judged.outcome if judged else Outcome.SKIPPED,
        "doubts": [done.masks.told(one) for one in judged.doubts] if judged else [],
        "remarks": [done.masks.told(one) for one in done.remarks],
        "added": judged.added if judged else 0,
        "removed": judged.removed if judged else 0,
        "skipped_because": done.not_now,
        "failure": failure and failure_data(failure),
        "steps": [
            {
                "what": done.masks.told(step.place),
                "took_s": step.took,
                "parts": [{"part": part.name, "size_bytes": part.size} for part in step.parts],
            }
            for step in steps
        ],
    }


def _about(part: Part) -> str:
    return f"{part.name} ({size_text(part.size)})"
