"""A store made of versions and their instants alone, where a copy holds no more."""

from collections.abc import Callable, Iterable, Mapping
from contextlib import closing
from dataclasses import dataclass
from datetime import datetime, timedelta
from itertools import groupby
from pathlib import Path

from historon.store import Entry, FolderStore, Outcome, Part

__all__ = ["Found", "rebuild"]


@dataclass(frozen=True)
class Found:
    """A version that a copy holds: what each of its parts is called there, by its name."""

    source: str
    at: datetime
    parts: Mapping[str, str]


def rebuild(folder: Path, versions: Iterable[Found], read: Callable[[str], bytes]) -> None:
    """Make a store in a folder of versions in the order of their instants; `read` gives what a part holds."""
    with closing(FolderStore.create(folder)) as made:
        known: set[str] = set()
        for at, same in groupby(versions, key=lambda one: one.at):
            waiting = list(same)
            while waiting:  # a round has each source once
                taken = {one.source: one for one in reversed(waiting)}
                waiting = [one for one in waiting if taken[one.source] is not one]
                number = made.begin_round(at, "from a copy")
                entries = [_entry(one, read, first=one.source not in known) for one in taken.values()]
                made.record(number, entries)
                made.end_round(number, at)
                known.update(taken)


def _entry(found: Found, read: Callable[[str], bytes], *, first: bool) -> Entry:
    parts = [Part(name, read(there)) for name, there in sorted(found.parts.items())]
    outcome = Outcome.FIRST if first else Outcome.CHANGED
    return Entry(found.source, outcome, found.at, timedelta(), parts)
