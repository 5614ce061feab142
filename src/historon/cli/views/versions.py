"""`historon versions`: what it shows."""

import click

from historon.cli.output import count
from historon.store import Version

__all__ = ["headline", "print_left_out", "row"]


def headline(source: str, versions: list[Version]) -> str:
    """How many versions there are, in one line."""
    if not versions:
        return f"{source} has no version yet: historon collect {source}"
    good = [version for version in versions if version.good]
    suspect = len(versions) - len(good)
    also = f", {suspect} of them suspect" if suspect else ""
    latest = f"; the last good one is @{good[-1].number}" if good else "; none of them is good"
    return f"{source}: {count(len(versions), 'version')}{also}{latest}"


def print_left_out(versions: list[Version], telling: list[Version], shown: list[Version]) -> None:
    """What is not shown."""
    left = []
    if len(telling) > len(shown):
        left.append(count(len(telling) - len(shown), "older version"))
    if len(versions) > len(telling):
        left.append(f"{count(len(versions) - len(telling), 'version')} with only noise")
    if left:
        click.echo(f"not shown: {' and '.join(left)} (--all)")


def row(version: Version) -> dict[str, object]:
    """A version, for programs."""
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
