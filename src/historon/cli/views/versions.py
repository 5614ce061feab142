"""`historon versions`: what it shows."""

from collections.abc import Mapping, Sequence

import click

from historon.cli.output import count
from historon.store import Version

__all__ = ["headline", "headline_of_several", "print_left_out", "row"]


def headline(source: str, versions: Sequence[Version]) -> str:
    """How many versions there are, in one line."""
    if not versions:
        return f"{source} has no version yet: historon collect {source}"
    good = [version for version in versions if version.good]
    suspect = len(versions) - len(good)
    also = f", {suspect} of them suspect" if suspect else ""
    latest = f"; the last good one is @{good[-1].number}" if good else "; none of them is good"
    return f"{source}: {count(len(versions), 'version')}{also}{latest}"


def headline_of_several(by_source: Mapping[str, Sequence[Version]]) -> str:
    """How many versions several sources have, in one line."""
    total = sum(map(len, by_source.values()))
    without = [name for name, versions in by_source.items() if not any(version.good for version in versions)]
    lacking = f"; without a good one: {', '.join(without)}" if without else ""
    return f"{count(len(by_source), 'source')}: {count(total, 'version')}{lacking}"


def print_left_out(versions: Sequence[Version], telling: Sequence[Version], shown: Sequence[Version]) -> None:
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
