"""`historon service-files`."""

import shlex
import sys
from importlib import resources
from pathlib import Path

import click

from historon.base.errors import OutsideError
from historon.cli.app import App, estate_option, example, pass_app
from historon.estate import ENVIRONMENT_FILE, environment_secrets, temporary_places, written_places

__all__ = ["command"]

_KINDS = {
    "systemd": ("historon.service",),
    "timer": ("historon-once.service", "historon-once.timer"),
    "cron": ("historon.cron",),
    "launchd": ("historon.plist",),
    "windows": ("historon-task.xml",),
}


def _unit_text(text: object) -> str:
    """A text of a unit, in which a percent sign begins a specifier (systemd.unit(5))."""
    return str(text).replace("%", "%%")


def _unit_word(text: object, *, command: bool = False) -> str:
    """A word of a unit, in quotes where it has blanks (systemd.syntax(7)); in a command a dollar sign is doubled."""
    word = _unit_text(text)
    if command:
        word = word.replace("$", "$$")
    if not any(sign.isspace() or sign in "\"'\\;" for sign in word):
        return word
    escaped = word.replace("\\", "\\\\").replace('"', '\\"')
    return f'"{escaped}"'


def _cron_word(text: object) -> str:
    """A word for the shell that cron starts, where a percent sign would be a line end (crontab(5))."""
    return shlex.quote(str(text)).replace("%", "\\%")


@click.command(
    "service-files",
    epilog=example(
        "historon service-files systemd",
        "historon service-files timer --to /etc/systemd/system --user historon",
        "historon service-files cron",
    ),
)
@click.argument("kind", type=click.Choice(list(_KINDS)))
@click.option(
    "--to", "folder", type=click.Path(path_type=Path), help="Write the files to this folder instead of printing them."
)
@click.option("--user", metavar="NAME", default="historon", show_default=True, help="Account that the service runs as.")
@estate_option
@pass_app
def command(app: App, kind: str, *, folder: Path | None, user: str, estate_file: str | None) -> None:
    """Print or write service files: systemd units, a crontab line, a task.

    `systemd` runs the service in the foreground; `timer` and `cron` run everything that is due every five minutes. The
    units are sandboxed as tightly as collecting allows. The service can write to the estate's folder, its store, its
    copies, and files that are channels. It can also write to folders and mailboxes whose exports it removes after
    collecting. Variables for secrets (`env:`) come from historon.env beside the estate file.
    """
    from jinja2 import Environment, StrictUndefined

    estate = app.estate(estate_file)
    program = Path(sys.argv[0]).absolute()
    variables = environment_secrets(estate)
    values = {
        "program": program,
        "estate": estate.file,
        "folder": estate.folder,
        "user": user,
        "written": written_places(estate),
        "variables": variables,
        "variables_file": estate.folder / ENVIRONMENT_FILE,
        "temporary": temporary_places(estate),
        "name": "".join(char for char in estate.settings.name if char.isprintable()),
    }
    for name in _KINDS[kind]:
        source = (resources.files("historon.cli") / "service" / name).read_text(encoding="utf-8")
        escape = name.endswith((".plist", ".xml"))
        engine = Environment(autoescape=escape, undefined=StrictUndefined, keep_trailing_newline=True)  # noqa: S701 (units)
        engine.filters |= {"unit_word": _unit_word, "unit_text": _unit_text, "cron_word": _cron_word}
        text = engine.from_string(source).render(values)
        if folder is None:
            click.echo(text, nl=False)
            continue
        try:
            (folder / name).write_text(text, encoding="utf-8")
        except OSError as exc:
            raise OutsideError(
                f"{folder / name}: {exc.strerror}", hint="check that the folder exists and is yours"
            ) from exc
        click.echo(f"written: {folder / name}")
