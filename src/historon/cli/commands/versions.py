"""`historon versions`."""

import click

from historon.cli.app import App, estate_option, example, json_option, pass_app
from historon.cli.output import STYLES, count, instant, print_json, print_table, printable, since, size_text, table
from historon.store import State, Version

__all__ = ["command"]

_SHOWN = 25


@click.command("versions", epilog=example("historon versions edge-1", "historon versions edge-1 --all --json"))
@click.argument("source")
@click.option("--all", "everything", is_flag=True, help="All of them, also those that differ by noise alone.")
@estate_option
@json_option
@pass_app
def command(app: App, source: str, *, everything: bool, estate_file: str | None, as_json: bool) -> None:
    """The timeline of a source.

    Newest first, with the lines that came and went against the version before. Versions that differ by masked noise
    alone are stored, and left out here unless --all is given.
    """
    with app.opened(estate_file) as opened:
        versions = opened.versions(source)
    newest = versions[::-1]
    telling = newest if everything else [version for version in newest if version.state is not State.NOISE]
    shown = telling if everything else telling[:_SHOWN]
    headline = _headline(source, versions)
    if as_json:
        print_json("versions", headline, [_row(version) for version in newest])
        return
    now, zone = app.clock(), opened.estate.zone
    proofs = opened.proofs(source)
    click.echo(headline)
    made = table("version", f"version from ({zone})", "made", "size", "lines", "state", "note", right=("size", "lines"))
    for version in shown:
        lines = f"+{version.added} -{version.removed}" if version.added or version.removed else ""
        note = f"held: {version.held}" if version.held is not None else version.note or ""
        if version.number in proofs:
            note = "; ".join(filter(None, (note, str(proofs[version.number]))))
        made.add_row(
            f"@{version.number}",
            instant(version.at, zone),
            since(now - version.at),
            size_text(version.size),
            lines,
            version.state,
            printable(note),
            style=STYLES[version.state],
        )
    if shown:
        print_table(made)
    _print_left_out(versions, telling, shown)


def _headline(source: str, versions: list[Version]) -> str:
    if not versions:
        return f"{source} has no version yet: historon collect {source}"
    good = [version for version in versions if version.good]
    suspect = len(versions) - len(good)
    also = f", {suspect} of them suspect" if suspect else ""
    latest = f"; the last good one is @{good[-1].number}" if good else "; none of them is good"
    return f"{source}: {count(len(versions), 'version')}{also}{latest}"


def _print_left_out(versions: list[Version], telling: list[Version], shown: list[Version]) -> None:
    left = []
    if len(telling) > len(shown):
        left.append(count(len(telling) - len(shown), "older version"))
    if len(versions) > len(telling):
        left.append(f"{count(len(versions) - len(telling), 'version')} with nothing but noise")
    if left:
        click.echo(f"not shown: {' and '.join(left)} (--all)")


def _row(version: Version) -> dict[str, object]:
    return {
        "source": version.source,
        "version": version.number,
        "at": version.at,
        "state": version.state,
        "size_bytes": version.size,
        "added": version.added,
        "removed": version.removed,
        "held": version.held,
        "note": version.note,
    }
