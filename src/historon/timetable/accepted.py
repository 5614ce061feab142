"""The estate that was accepted last: the store remembers the files that it was read from."""

import json
import re
import tomllib
from collections.abc import Callable, Iterator, Mapping
from contextlib import closing
from pathlib import Path

from historon.base.errors import HistoronError
from historon.estate import Estate, EstateError, estate_digest, lost_sources, read_estate, too_many_lost
from historon.store import ESTATE, RETIRED, Store

__all__ = [
    "accepted_estate",
    "described_again",
    "is_accepted",
    "last_accepted",
    "memories_of",
    "missing_from",
    "what_is_missing",
]

_DIGEST = "digest of the accepted estate"
_FILES = "files of the accepted estate"
_NAMED = 3  # sources
_SETTING = r'(?m)^\s*{}\s*=\s*"([^"\n]*)"'


def is_accepted(estate: Estate, store: Store) -> bool:
    """Whether this is the estate that was accepted last, to the byte of all its files."""
    return store.recall(ESTATE, _DIGEST) == estate_digest(estate)


def memories_of(estate: Estate, store: Store) -> dict[str, dict[str, str]]:
    """What is to be remembered, by topic and source, when an estate is accepted."""
    return {
        _DIGEST: {ESTATE: estate_digest(estate)},
        _FILES: {ESTATE: json.dumps(dict(estate.texts))},
        RETIRED: described_again(estate, store),
    }


def described_again(estate: Estate, store: Store) -> dict[str, str]:
    """The retired sources that the estate describes again, so that they can be missing again: by name, nothing."""
    return {name: "" for name in store.recall_all(RETIRED) if name in estate.sources}


def what_is_missing(estate: Estate, store: Store) -> str:
    """How many sources a new estate file lost, so that the one before is still used; empty where it is in force."""
    if store.recall(ESTATE, _DIGEST) in (None, "", estate_digest(estate)):
        return ""
    return missing_from(accepted_estate(store, estate.file), estate, store)


def missing_from(was: Estate | None, estate: Estate, store: Store) -> str:
    """How many sources of the estate before are missing from this one; empty where these are few, or retired."""
    if was is None:
        return ""
    lost = lost_sources(was, estate, store.recall_all(RETIRED))
    if not too_many_lost(was, lost):
        return ""
    some = f"{', '.join(lost[:_NAMED])} and {len(lost) - _NAMED} more"
    words = f"{len(lost)} of {len(was.sources)} sources are missing from the new estate file"
    return f"{words} ({some}); the one before stays in effect"


def accepted_estate(store: Store, file: Path) -> Estate | None:
    """The estate that this store accepted last; None where there is none, or this Historon does not understand it."""
    text = store.recall(ESTATE, _FILES)
    if not text:
        return None
    try:
        texts: Mapping[str, str] = json.loads(text)
        return read_estate(file, remembered=texts)
    except (EstateError, ValueError, TypeError, AttributeError):
        return None


def last_accepted(file: Path, open_store: Callable[[Estate], Store]) -> Estate | None:
    """The estate that was accepted last, where its file is invalid now; None where its store cannot be found."""
    try:
        place = read_estate(file, _store_alone(file))
        with closing(open_store(place)) as store:
            return accepted_estate(store, file.absolute())
    except HistoronError:
        return None


def _store_alone(file: Path) -> str:
    """An estate file that names the store of this one, and nothing else; this one may be no TOML any more."""
    settings = dict(_settings(file))
    lines = [f"{key} = {json.dumps(value)}" for key, value in settings.items()]
    return "\n".join(["[estate]", 'name = "unknown"', *lines, ""])


def _settings(file: Path) -> Iterator[tuple[str, str]]:
    try:
        text = file.read_bytes().decode("utf-8-sig", "replace")
    except OSError:
        return
    try:
        found = tomllib.loads(text).get("estate")
        table = found if isinstance(found, dict) else {}
    except tomllib.TOMLDecodeError:
        table = {}
    for key in ("store", "store_password"):
        written = re.search(_SETTING.format(key), text)
        value = table.get(key, written[1] if written else None)
        if isinstance(value, str):
            yield key, value
