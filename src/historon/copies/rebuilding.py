"""A store made of versions and their instants alone, where a copy holds no more."""

from collections.abc import Callable, Iterable, Mapping
from contextlib import closing
from dataclasses import dataclass
from datetime import datetime, timedelta
from itertools import groupby
from pathlib import Path

from historon.store import Damage, Entry, FolderStore, Outcome, Part

__all__ = ["Found", "UnreadableError", "rebuild"]


class UnreadableError(Exception):
    """What a part of a version held is not there any more, or is damaged; why is said in words."""


@dataclass(frozen=True)
class Found:
    """A version that a copy holds: what each of its parts is called there, by its name."""

    source: str
    at: datetime
    parts: Mapping[str, str]


def rebuild(folder: Path, versions: Iterable[Found], read: Callable[[str], bytes]) -> list[Damage]:
    """Make a store in a folder of versions in the order of their instants; `read` gives what a part holds.

    A version of which a part cannot be read (UnreadableError) is left out; all of them are returned.
    """
    lost: list[Damage] = []
    with closing(FolderStore.create(folder)) as made:
        known: set[str] = set()
        for at, same in groupby(versions, key=lambda one: one.at):
            waiting = list(same)
            while waiting:  # a round has each source once
                taken = {one.source: one for one in reversed(waiting)}
                waiting = [one for one in waiting if taken[one.source] is not one]
                number = made.begin_round(at, "from a copy")
                entries = [entry for one in taken.values() if (entry := _entry(one, read, known, lost))]
                made.record(number, entries)
                made.end_round(number, at)
    return lost


def _entry(found: Found, read: Callable[[str], bytes], known: set[str], lost: list[Damage]) -> Entry | None:
    """What is recorded of a version; None where it is not whole."""
    try:
        parts = [Part(name, read(there)) for name, there in sorted(found.parts.items())]
    except UnreadableError as exc:
        lost.append(Damage(found.source, None, f"of {found.at:%Y-%m-%d %H:%M:%S} UTC", str(exc)))
        return None
    outcome = Outcome.CHANGED if found.source in known else Outcome.NEW
    known.add(found.source)
    return Entry(found.source, outcome, found.at, timedelta(), parts)
