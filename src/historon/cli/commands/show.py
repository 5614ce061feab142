"""`historon show`."""

import os
import stat
import sys

import click

from historon.cli.app import App, estate_option, example, pass_app, reveal_option
from historon.cli.output import printable, size_text, warn_if_suspect
from historon.cli.viewing import masks_for
from historon.compare import comparable, is_binary
from historon.errors import UsageError
from historon.estate import nearest
from historon.store import LARGE, StoredPart

__all__ = ["command"]

_NAMED = 12


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

    Into a file (with >), the bytes come out as they went in. On a terminal and in a pipe secrets are masked unless
    --reveal is given; on a terminal control characters are written out, so that nothing a device sent can act on your
    screen. PART may be left out where there is only one.
    """
    estate = app.estate(estate_file)
    with app.store(estate) as store:
        found = app.version(estate, store, version)
        chosen = _choose(f"{found.source}@{found.number}", store.parts(found.source, found.number), part)
        warn_if_suspect(found)
        if _goes_to_file() or (reveal and not sys.stdout.isatty()):
            sys.stdout.buffer.writelines(store.pieces(chosen))
            sys.stdout.buffer.flush()
            return
        content = comparable(chosen, store)
        masks = masks_for(estate, store, found.source, reveal=reveal)
    if chosen.size > LARGE:
        problem = f"{chosen.name} is too large to mask secrets in it, {size_text(chosen.size)}"
        raise UsageError(problem, hint=f"historon show {version} {chosen.name} > FILE")
    if is_binary(content):
        raise UsageError(
            f"{chosen.name} is binary, {size_text(chosen.size)}", hint=f"historon show {version} {chosen.name} > FILE"
        )
    shown = masks.hide(content)
    if sys.stdout.isatty():
        click.echo(printable(shown.decode("utf-8", "backslashreplace")), nl=not content.endswith(b"\n"))
        return
    sys.stdout.buffer.write(shown)
    sys.stdout.buffer.flush()


def _goes_to_file() -> bool:
    """Whether standard output is a regular file: then the bytes themselves are wanted."""
    return stat.S_ISREG(os.fstat(sys.stdout.fileno()).st_mode)


def _choose(place: str, parts: list[StoredPart], name: str | None) -> StoredPart:
    names = [part.name for part in parts]
    told = [part for part in parts if not part.name.endswith(".tree")]  # metadata beside what they tell of
    if name is None and len(told) == 1:
        return told[0]
    if name is None:
        listed = "\n".join(f"  {part}" for part in names[:_NAMED])
        more = f"\n  … and {len(names) - _NAMED} more" if len(names) > _NAMED else ""
        raise UsageError(f"{place} has {len(parts)} parts; name one of them:\n{listed}{more}")
    if name not in names:
        raise UsageError(f'{place} has no part "{name}"', hint=nearest(name, names))
    return parts[names.index(name)]
