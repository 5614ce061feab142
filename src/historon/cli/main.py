"""The program: which commands there are, and what becomes of errors. Commands are imported when they are called."""

import errno
import importlib
import logging
import os
import sys
import warnings
from collections.abc import Sequence

import click

from historon import __version__
from historon.bounds import TooHeavyError
from historon.cli.bounded import give_up_memory, in_bounds
from historon.errors import ExitCode, HistoronError, OutsideError, UsageError, where_raised

__all__ = ["COMMANDS", "main", "run"]

# Their help here, so that `historon --help` imports none of them; a test holds it equal to what they say themselves.
COMMANDS: dict[str, dict[str, str]] = {
    "Begin": {
        "new": "Lay out a new estate in a folder.",
        "demo": "Play a complete example on simulated devices.",
        "standins": "Run simulated devices on loopback, to play with.",
        "doctor": "Examine the estate file, the machine, secrets, disk and permissions.",
        "sources": "The sources that the estate file describes: list, add, import, rename, retire, pin.",
        "procedures": "How kinds of sources are asked: the estate's procedures and those shipped.",
    },
    "Collect": {
        "rehearse": "Go through the procedure, storing nothing.",
        "collect": "Collect from sources, now: one round.",
        "agenda": "What is due next.",
        "serve": "Keep the timetable.",
        "service-files": "What a system needs to run the service: units, a crontab line, a task.",
        "vouch": "Take a suspect version for good, on your word.",
        "status": "Is everything fresh, and well? The exit code says it too.",
        "notices": "Who is notified of what, what is waiting to be sent, and what was sent.",
        "rounds": "What happened, round by round.",
    },
    "Look": {
        "versions": "The timeline of a source.",
        "show": "Print a part of a version.",
        "diff": "What changed between two versions, or two sources.",
        "changes": "What changed across the estate, equal changes shown once.",
        "find": "Where a text is now, or ever was.",
        "trace": "Since when a line has been there, and what it was before.",
        "requirements": "Are the sources as they must be? The exit code says it too.",
        "noise": "What differs in nearly every version of a source: proposes masks.",
        "restore": "Write versions, or a part of them, to a folder, into a tar, or back to where they were.",
        "push": "Push a version to its source, by the `push` steps of its procedure.",
        "prove": "Test versions with the programs that their procedures name (such as `nginx -t`).",
    },
    "Keep": {
        "prune": "What retention would remove; removes it when confirmed.",
        "hold": "Keep a version whatever retention says; --lift ends it.",
        "copies": "Second places that hold the versions too.",
        "verify": "Read every version again, and verify it.",
        "store": "Which estate the store belongs to.",
    },
}


_BOUNDED = frozenset({"show", "diff", "changes", "find", "trace", "requirements", "noise"})  # look into exports


class _Commands(click.Group):
    def list_commands(self, ctx: click.Context) -> list[str]:
        return [name for section in COMMANDS.values() for name in section]

    def get_command(self, ctx: click.Context, cmd_name: str) -> click.Command | None:
        if cmd_name not in self.list_commands(ctx):
            return None
        command: click.Command = importlib.import_module(f"historon.cli.commands.{cmd_name.replace('-', '_')}").command
        return command

    def format_commands(self, ctx: click.Context, formatter: click.HelpFormatter) -> None:
        for title, section in COMMANDS.items():
            with formatter.section(title):
                formatter.write_dl([(f"{name:<13}", text) for name, text in section.items()], col_max=15)

    def resolve_command(
        self, ctx: click.Context, args: list[str]
    ) -> tuple[str | None, click.Command | None, list[str]]:
        if args and args[0] not in self.list_commands(ctx) and not args[0].startswith("-"):
            from historon.estate import nearest

            raise UsageError(f'there is no command "{args[0]}"', hint=nearest(args[0], self.list_commands(ctx)))
        return super().resolve_command(ctx, args)


_HELP = """Collect configurations, keep every version, and say what changed.

\b
Begin with   historon demo         a complete example, made up
             historon new DIR    your own estate
Versions     SOURCE@WHEN, such as edge-1@latest, edge-1@17, edge-1@-1,
             edge-1@2026-06-14, edge-1@2026-06-14T03:00, edge-1@3d
"""


@click.group(
    cls=_Commands, help=_HELP, context_settings={"help_option_names": ["-h", "--help"], "max_content_width": 100}
)
@click.version_option(__version__, message="historon %(version)s")
def cli() -> None:
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
        _complain(OutsideError("there is not enough memory", hint="end what takes it, and try again"))
        return ExitCode.OUTSIDE
    except Exception as exc:
        trouble = _no_output(exc)
        if trouble is not None:
            _write_no_more()
            _complain(OutsideError(f"the output could not be written: {trouble}", hint="where does it go?"))
            return ExitCode.OUTSIDE
        click.echo(f"historon: a defect in Historon itself: {where_raised(exc)}", err=True)
        click.echo("  try: report this line and the command, please", err=True)
        return ExitCode.INTERNAL


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
    """What click has found wrong with the command line, told as everything else is."""
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
