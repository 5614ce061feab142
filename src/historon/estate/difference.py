"""What a new estate file takes away from the one before: sources, parts, rules, channels, times, in a sentence each.

Comments and additions are not listed, but for those that make something smaller: a freeze, a budget, a mask.
"""

import hashlib
import tomllib
from collections import defaultdict
from collections.abc import Collection, Iterator, Mapping, Sequence
from pathlib import PurePosixPath
from typing import Any

from historon.estate.model import Estate, Source

__all__ = ["differences", "estate_digest", "lost_sources", "too_many_lost"]

_NAMED = 4  # sources in a sentence
_FEW = 3  # sources that one person may remove at once
_SHARE = 10  # one part in so many
# Tables in which each change is named, and those of which new entries take something away too.
_TABLES = ("estate", "retention", "timetables", "notices", "channels", "copies", "procedures")
_LISTS = ("requirements", "weights", "freezes", "budgets")
_NEW_COUNTS = ("freezes", "budgets")
_OF_TABLES = ("retention", "timetables", "channels", "copies", "procedures")  # in which a new key is an addition
_HARMLESS = ("name", "about", "why", "extends")


def estate_digest(estate: Estate) -> str:
    """A digest of all files that the estate was read from."""
    digest = hashlib.sha256()
    for name, text in sorted(estate.texts.items()):
        digest.update(f"{len(name)} {len(text)} {name}{text}".encode("utf-8", "surrogatepass"))
    return digest.hexdigest()


def lost_sources(was: Estate, now: Estate, retired: Collection[str] = ()) -> list[str]:
    """The sources of the estate before that this one does not describe and that nobody retired."""
    return sorted(was.sources.keys() - now.sources.keys() - set(retired))


def too_many_lost(was: Estate, lost: Sequence[str]) -> bool:
    """Whether so many sources are gone at once that it is probably a mistake: more than three, and than a tenth."""
    return len(lost) > _FEW and len(lost) * _SHARE > len(was.sources)


def differences(was: Estate, now: Estate) -> list[str]:
    """What the estate has less of than before, the sources first."""
    found = list(_of_sources(was, now))
    old, new = _tables(was), _tables(now)
    for table in _TABLES:
        found += _of_table(table, old.get(table, {}), new.get(table, {}))
    for name in _LISTS:
        found += _of_list(name, old.get(name, []), new.get(name, []), added=name in _NEW_COUNTS)
    return found


def _tables(estate: Estate) -> dict[str, Any]:
    """The estate file as it is written, with the procedures of other files."""
    data = tomllib.loads(estate.texts[estate.file.name])
    procedures = data.setdefault("procedures", {})
    for name, text in estate.texts.items():
        if "/" in name and name.endswith(".toml"):
            procedures[PurePosixPath(name).stem] = tomllib.loads(text)
    return data


# ---- sources ---------------------------------------------------------------------------------------------------------


def _of_sources(was: Estate, now: Estate) -> Iterator[str]:
    gone = lost_sources(was, now)
    if gone:
        words = "source is" if len(gone) == 1 else "sources are"
        yield f"{len(gone)} {words} missing from the list: {_some(gone)}"
    changed: dict[str, list[str]] = defaultdict(list)
    for name in sorted(was.sources.keys() & now.sources.keys()):
        for words in _of_source(was, was.sources[name], now, now.sources[name]):
            changed[words].append(name)
    yield from (f"{words}: {_some(names)}" for words, names in changed.items())


def _of_source(before: Estate, was: Source, after: Estate, now: Source) -> Iterator[str]:
    if now.skip is not None and was.skip is None:
        yield f'it is skipped ("{now.skip}")'
    if set(was.timetables) - set(now.timetables):
        left = ", ".join(now.timetables) or "missing"
        yield f"timetable is {left}, was {', '.join(was.timetables)}"
    for key in ("max_age", "max_shrink", "retention", "procedure", "address"):
        old, new = getattr(was, key), getattr(now, key)
        if old != new and old not in (None, ""):
            yield f"{key} is {_shown(new)}, was {_shown(old)}"
    rules = {one.name for one in before.requirements_of(was)}
    held = {one.name for one in after.requirements_of(now)}
    there = {one.name for one in after.requirements}
    yield from (f'requirement "{name}" no longer applies' for name in sorted((rules - held) & there))


def _some(names: Sequence[str]) -> str:
    more = f" and {len(names) - _NAMED} more" if len(names) > _NAMED else ""
    return ", ".join(names[:_NAMED]) + more


# ---- tables ----------------------------------------------------------------------------------------------------------


def _of_table(place: str, was: Any, now: Any) -> Iterator[str]:
    """What changed in a table that was there before, key by key; keys of tables in it are joined by dots."""
    if isinstance(was, dict) and isinstance(now, dict):
        for key in [*was, *(one for one in now if one not in was)]:
            if key in was and key not in _HARMLESS:
                yield from _of_table(f"{place}.{key}", was[key], now.get(key))
            elif key not in was and key not in _HARMLESS and place not in _OF_TABLES:
                yield f"{place}.{key} is new: {_shown(now[key])}"
    elif now is None:
        yield f"{place} is removed"
    elif isinstance(was, list) and isinstance(now, list):
        yield from _of_list(place, was, now, added=True)
    elif was != now:
        yield f"{place} is {_shown(now)}, was {_shown(was)}"


def _of_list(place: str, was: Sequence[Any], now: Sequence[Any], *, added: bool) -> Iterator[str]:
    yield from (f"{place}: {_shown(one)} is removed" for one in was if one not in now)
    if added:
        yield from (f"{place}: {_shown(one)} is new" for one in now if one not in was)


def _shown(value: Any) -> str:
    """A value as it is written; of a table its name, or its first key."""
    if value is None:
        return "missing"
    if isinstance(value, Mapping):
        if isinstance(value.get("name"), str):
            return f'"{value["name"]}"'
        key = next(iter(value), "")
        return f"{key} = {_shown(value[key])}" if key else "{}"
    return f'"{value}"' if isinstance(value, str) else str(value)
