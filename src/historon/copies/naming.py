"""What the files of a copy of plain files are called, and which version a file is of."""

import re
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from datetime import UTC, datetime
from functools import cached_property

from historon.store import Removed, Version

__all__ = ["NamedFile", "Pattern", "times_of"]

_INTO = re.compile(r"\{(source|number|date|time|part)\}")
_FORMS = {
    "source": r"(?P<source>[^/]+)",
    "number": r"(?P<number>\d{1,9})",
    "date": r"(?P<date>\d{4}-\d\d-\d\d)",
    "time": r"(?P<time>\d{6}(?:_\d{1,9})?)",
    "part": r"(?P<part>.+)",
}


@dataclass(frozen=True)
class NamedFile:
    """What the name of a file tells: of which source, of which version of it, and of which part."""

    source: str
    number: int | None
    date: str
    time: str
    part: str

    @property
    def at(self) -> datetime:
        """The instant that the name tells; the beginning of 1970 where it tells none. ValueError for none there is."""
        if not self.date:
            return datetime.fromtimestamp(0, UTC)
        told = f"{self.date} {(self.time or '000000')[:6]}"
        return datetime.strptime(told, "%Y-%m-%d %H%M%S").replace(tzinfo=UTC)

    @property
    def order(self) -> int:
        """The number of the version, or the one behind the time of the later of two versions within a second."""
        return self.number or int(self.time.partition("_")[2] or 0)


@dataclass(frozen=True)
class Pattern:
    """How files are named: a path with `{source}`, `{number}`, `{date}`, `{time}` and, at its end, `{part}`."""

    text: str

    def name(self, source: str, number: int, time: tuple[str, str], part: str) -> str:
        """The name of a part of a version, made at this date and time."""
        return self.text.format(source=source, number=number, date=time[0], time=time[1], part=part)

    def read(self, name: str) -> NamedFile | None:
        """What a name tells; None where it is not one of this pattern."""
        found = self._form.fullmatch(name)
        if not found:
            return None
        told = {key: value or "" for key, value in found.groupdict().items()}
        number = int(told["number"]) if told.get("number") else None
        return NamedFile(told["source"], number, told.get("date", ""), told.get("time", ""), told["part"])

    @cached_property
    def _form(self) -> re.Pattern[str]:
        pieces = _INTO.split(self.text)  # what stands between names, and names, by turns
        pieces[::2] = [re.escape(piece) for piece in pieces[::2]]
        seen: set[str] = set()
        for at in range(1, len(pieces), 2):
            name = pieces[at]
            pieces[at] = f"(?P={name})" if name in seen else _FORMS[name]
            seen.add(name)
        return re.compile("".join(pieces), re.DOTALL)

    def numbers(
        self, source: str, times: Mapping[int, tuple[str, str]], names: Iterable[NamedFile]
    ) -> dict[NamedFile, int]:
        """The numbers of the versions of a source that these files are of, by the times that its versions have."""
        by_time = {time: number for number, time in times.items()}
        found = {}
        for one in names:
            number = one.number if one.number is not None else by_time.get((one.date, one.time))
            if number is not None and one.source == source:
                found[one] = number
        return found


def times_of(versions: Sequence[Version], removed: Sequence[Removed]) -> dict[int, tuple[str, str]]:
    """The date and time in UTC of each version, each once: of two within a second the later bears its number as well.

    Those that were removed count, so that no version gets another name when one before it is removed.
    """
    instants = {one.number: one.at for one in removed if one.at is not None}
    instants |= {one.number: one.at for one in versions}
    found: dict[int, tuple[str, str]] = {}
    taken: set[tuple[str, str]] = set()
    for number, at in sorted(instants.items()):
        day, time = at.astimezone(UTC).isoformat(timespec="seconds")[:19].split("T")
        told = day, time.replace(":", "")
        found[number] = told if told not in taken else (told[0], f"{told[1]}_{number:06}")
        taken.add(told)
    return found
