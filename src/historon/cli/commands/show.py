"""`historon show`."""

import os
import stat
import sys

import click

from historon.cli.app import App, estate_option, example, pass_app, reveal_option
from historon.cli.output import printable, warn_if_suspect

__all__ = ["command"]


@click.command(
    "show",
    epilog=example(
        "historon show edge-1", "historon show edge-1@2026-06-14 > before.cfg", "historon show files etc/app.conf"
    ),
)
@click.argument("version", metavar="SOURCE[@WHEN]")
@click.argument("part", required=False)
@reveal_option
@estate_option
@pass_app
def command(app: App, version: str, part: str | None, *, reveal: bool, estate_file: str | None) -> None:
    """Print a part of a version.

    Redirected to a file (with >), the bytes are exactly as collected. On a terminal and in a pipe secrets are masked
    unless --reveal is given. On a terminal control characters are made visible, so that no bytes from a device can
    control your screen. PART may be omitted when there is only one.
    """
    with app.opened(estate_file) as opened:
        found = opened.version(version)
        chosen = found.part(part)
        warn_if_suspect(found)
        if _goes_to_file() or (reveal and not sys.stdout.isatty()):
            sys.stdout.buffer.writelines(found.pieces(chosen.name))
            sys.stdout.buffer.flush()
            return
        shown = found.read(chosen.name, reveal=reveal)
    if sys.stdout.isatty():
        click.echo(printable(shown.decode("utf-8", "backslashreplace")), nl=not shown.endswith(b"\n"))
        return
    sys.stdout.buffer.write(shown)
    sys.stdout.buffer.flush()


def _goes_to_file() -> bool:
    """Whether standard output is a regular file: then the bytes themselves are wanted."""
    return stat.S_ISREG(os.fstat(sys.stdout.fileno()).st_mode)
