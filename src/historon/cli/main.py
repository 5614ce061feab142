"""The program: which commands there are, and what becomes of errors. Commands are imported when they are called."""

import errno
import importlib
import logging
import os
import pkgutil
import sys
import traceback
import warnings
from collections.abc import Sequence

import click

from historon import __version__
from historon.base.bounds import TooHeavyError
from historon.base.errors import ExitCode, HistoronError, OutsideError, UsageError, causes_of, where_raised
from historon.cli.bounded import give_up_memory, in_bounds

__all__ = ["COMMANDS", "main", "run"]

# Their help here, so that `historon --help` imports none of them; a test holds it equal to what they say themselves.
COMMANDS: dict[str, dict[str, str]] = {
    "Set up": {
        "new": "Make a new estate in a folder.",
        "doctor": "Check the estate file, machine, secrets, disk and permissions.",
        "sources": "List, add, import, rename, retire or pin sources.",
        "procedures": "List or explain procedures: how a kind of source is collected.",
        "rehearse": "Test the procedure of a source; nothing is stored.",
        "service-files": "Print or write service files: systemd units, a crontab line, a task.",
    },
    "Run": {
        "collect": "Collect from sources now, in one round.",
        "serve": "Run the service: collect on schedule.",
        "agenda": "List what is due next.",
        "status": "Show whether everything is well, by exit code too.",
        "rounds": "List rounds, or show one with its outcomes.",
        "notices": "List channels and notices; test a channel.",
    },
    "Look": {
        "versions": "List the versions of a source, newest first.",
        "show": "Print a part of a version.",
        "diff": "Compare two versions, or two sources.",
        "changes": "List changes across the estate; equal changes are shown once.",
        "find": "Search all sources for a text, now or in all versions.",
        "trace": "Show the history of a line: when it was added, edited, moved and removed.",
        "requirements": "Check sources against the requirements of the estate file.",
        "noise": "Propose masks for lines that change in nearly every version.",
    },
    "Restore": {
        "restore": "Restore versions, or parts of them, to files.",
        "push": "Push a version to its source, by the `push` steps of its procedure.",
        "prove": "Test versions with the programs that their procedures name (such as `nginx -t`).",
    },
    "Keep": {
        "vouch": "Mark a suspect version as good.",
        "hold": "Keep a version regardless of retention, until --lift.",
        "prune": "Show what retention would remove; remove it when confirmed.",
        "copies": "List, update, verify or compare copies of the store.",
        "verify": "Read every version again and check it against its SHA-256.",
        "store": "Show or change which estate the store belongs to.",
    },
    "Try": {
        "demo": "Play a complete example on simulated devices.",
        "standins": "Run simulated devices on loopback, to try Historon on.",
    },
}


_BOUNDED = frozenset({"show", "diff", "changes", "find", "trace", "requirements", "noise"})  # look into exports


_LISTED = [name for section in COMMANDS.values() for name in section]


def _unlisted() -> list[str]:
    """Commands whose modules are there, and that no section names."""
    from historon.cli import commands

    return sorted({one.name.replace("_", "-") for one in pkgutil.iter_modules(commands.__path__)} - {*_LISTED})


class _Commands(click.Group):
    def list_commands(self, ctx: click.Context) -> list[str]:
        return [*_LISTED, *_unlisted()]

    def get_command(self, ctx: click.Context, cmd_name: str) -> click.Command | None:
        if cmd_name not in _LISTED and cmd_name not in _unlisted():
            return None
        command: click.Command = importlib.import_module(f"historon.cli.commands.{cmd_name.replace('-', '_')}").command
        return command

    def format_commands(self, ctx: click.Context, formatter: click.HelpFormatter) -> None:
        others = {name: self.get_command(ctx, name).get_short_help_str(80) for name in _unlisted()}  # type: ignore[union-attr]
        for title, section in {**COMMANDS, **({"Others": others} if others else {})}.items():
            with formatter.section(title):
                formatter.write_dl([(f"{name:<13}", text) for name, text in section.items()], col_max=15)

    def resolve_command(
        self, ctx: click.Context, args: list[str]
    ) -> tuple[str | None, click.Command | None, list[str]]:
        if args and not args[0].startswith("-") and args[0] not in _LISTED and args[0] not in _unlisted():
            from historon.estate import nearest

            raise UsageError(f'there is no command "{args[0]}"', hint=nearest(args[0], self.list_commands(ctx)))
        return super().resolve_command(ctx, args)


_HELP = """Collect configurations on schedule, keep every version, and show what changed.

\b
Begin with   historon demo       a complete example, simulated
             historon new DIR    your own estate
Versions     SOURCE@WHEN, such as edge-1@latest, edge-1@17, edge-1@-1,
             edge-1@2026-06-14, edge-1@2026-06-14T03:00, edge-1@3d
"""


@click.group(
    cls=_Commands, help=_HELP, context_settings={"help_option_names": ["-h", "--help"], "max_content_width": 100}
)
@click.version_option(__version__, message="historon %(version)s")
@click.option("--estate", "estate_file", metavar="FILE", help="The estate file or its folder, for all commands.")
def cli(estate_file: str | None) -> None:
    """The root of all commands; its help is `_HELP`."""


def run(arguments: Sequence[str] | None = None, app: object = None) -> int:
    """Run one command and return its exit code. Whatever goes wrong ends in a message, never in a traceback."""
    _quieten_libraries()
    try:
        code = cli.main(args=arguments, prog_name="historon", standalone_mode=False, obj=app)
        sys.stdout.flush()
        return int(code or 0)
    except click.ClickException as exc:
        _complain(_of_click(exc))
        return exc.exit_code
    except HistoronError as exc:
        _complain(exc)
        return exc.exit_code
    except BrokenPipeError:
        _write_no_more()  # the reader of our output has gone, as `head` does
        return ExitCode.WELL
    except (KeyboardInterrupt, click.Abort):
        click.echo("interrupted", err=True)
        return ExitCode.INTERRUPTED
    except MemoryError:
        give_up_memory()
        _complain(
            OutsideError("there is not enough memory", hint="stop other programs that use much memory, and try again")
        )
        return ExitCode.OUTSIDE
    except Exception as exc:
        trouble = _no_output(exc)
        if trouble is not None:
            _write_no_more()
            _complain(
                OutsideError(
                    f"the output could not be written: {trouble}",
                    hint="check the file or program that the output goes to",
                )
            )
            return ExitCode.OUTSIDE
        click.echo(f"historon: a defect in Historon itself: {where_raised(exc)}", err=True)
        click.echo("  try: report this line and the command, please", err=True)
        if os.environ.get("HISTORON_DEBUG"):
            _print_places(exc)
        return ExitCode.INTERNAL


def _print_places(exc: BaseException) -> None:
    """The traceback of a defect and of what led to it, without their texts: those may hold what a device sent."""
    for one in causes_of(exc):
        click.echo("Traceback (most recent call last):", err=True)
        click.echo("".join(traceback.format_tb(one.__traceback__)) + type(one).__name__, err=True)


def _write_no_more() -> None:
    """Keep Python from complaining at its exit of what it could not write."""
    os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())


def _no_output(exc: BaseException) -> str | None:
    """Why standard output takes nothing; None when that is not what went wrong: then it still takes what waits."""
    if not isinstance(exc, OSError) or exc.filename is not None:
        return None
    try:
        sys.stdout.flush()
    except (OSError, ValueError) as trouble:
        return getattr(trouble, "strerror", None) or str(trouble)
    if exc.errno in (errno.ENOSPC, errno.EIO, errno.EPIPE, errno.EBADF):
        return exc.strerror
    return None


def _quieten_libraries() -> None:
    """What libraries warn of is for us, not for whoever runs a command; the service puts it into its log.

    Python's own -W and PYTHONWARNINGS still show it.
    """
    if not sys.warnoptions:
        warnings.simplefilter("ignore")
    if not logging.getLogger().handlers:
        logging.getLogger().addHandler(logging.NullHandler())


def _complain(exc: HistoronError) -> None:
    from historon.cli.output import printable

    problems = getattr(exc, "problems", None)
    if problems:
        count = len(problems)
        click.echo(f"historon: the estate file has {count} mistake{'s' * (count > 1)}:", err=True)
        for problem in problems:
            click.echo(f"  {printable(str(problem))}", err=True)
        return
    click.echo(f"historon: {printable(exc.message)}", err=True)
    if exc.hint:
        advice = exc.hint if exc.hint.endswith("?") else f"try: {exc.hint}"
        click.echo(f"  {printable(advice)}", err=True)


def _of_click(exc: click.ClickException) -> HistoronError:
    """What click has found wrong with the command line, reported as everything else is."""
    message = exc.format_message().rstrip(".")
    context = exc.ctx if isinstance(exc, click.UsageError) else None
    return UsageError(message[:1].lower() + message[1:], hint=f"{context.command_path} --help" if context else "")


def main() -> None:
    """The entry point of the installed program."""
    _fill_streams()
    if len(sys.argv) > 1 and sys.argv[1] in _BOUNDED:
        try:
            ended = in_bounds()
        except TooHeavyError as exc:
            _complain(exc)
            ended = exc.exit_code
        if ended is not None:
            sys.exit(ended)
    sys.exit(run())


def _fill_streams() -> None:
    """Let a standard stream that is closed lead nowhere: a file that is opened later must not take its number."""
    for number, name, mode in ((0, "stdin", "r"), (1, "stdout", "w"), (2, "stderr", "w")):
        if getattr(sys, name) is None:
            opened = os.open(os.devnull, os.O_RDWR)  # the lowest number that is free, which may be this one
            if opened != number:
                os.dup2(opened, number)
            setattr(sys, name, os.fdopen(number, mode))
