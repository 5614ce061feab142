"""Who answered: the host key or pinned certificate of a source, and the name in its prompt, against those of before."""

import re
from collections import defaultdict
from collections.abc import Mapping
from contextlib import suppress
from dataclasses import dataclass

import msgspec

from historon.estate import Source
from historon.store import Store

__all__ = ["IDENTITY", "Identities", "Seen", "Shown"]

IDENTITY = "identity"  # the topic under which a source's last good visit is remembered
_SURE = 3  # good visits with one name in the prompt, before another name is suspect
_NAME = re.compile(r"(?:^|[\s@])([A-Za-z][\w.-]{1,62})")


@dataclass
class Shown:
    """What a device showed while it was visited: a host key's fingerprint, and its first prompt."""

    host_key: str = ""
    prompt: str = ""


class Seen(msgspec.Struct, omit_defaults=True):
    """What a source showed at its last good visits: `times` counts those with this `name` in the prompt."""

    key: str = ""
    name: str = ""
    times: int = 0


class Identities:
    """What all sources of an estate showed at their last good visits."""

    def __init__(self, store: Store, sources: Mapping[str, Source]) -> None:
        self._sources = sources
        self._known: dict[str, Seen] = {}
        self._by_key = defaultdict[str, list[str]](list)  # names of sources, also of such as show another key by now
        for name, text in store.recall_all(IDENTITY).items():
            with suppress(msgspec.MsgspecError):  # a damaged record is as good as none
                self._remember(name, msgspec.json.decode(text, type=Seen))

    def check(self, source: Source, shown: Shown, *, first: bool) -> tuple[list[str], Seen]:
        """Why this may be another device, and what to note of it if its export is good.

        A source that was collected before anything was remembered is believed once; one without any version is not.
        """
        key = shown.host_key or source.certificate or ""
        match = _NAME.search(shown.prompt)
        name = match[1] if match else ""
        before = self._known.get(source.name)
        doubts = []
        if key and (first or (before is not None and before.key != key)) and source.identity != "shared":
            doubts += self._shared(source, key, "host key" if shown.host_key else "certificate")
        times = 1
        if before is not None and name == before.name:
            times = min(before.times + 1, _SURE)
        elif before is not None and name and before.times >= _SURE:
            doubts.append(f"its prompt says {name}, and was {before.name}")
        return doubts, Seen(key, name, times if name else 0)

    def note(self, source: str, seen: Seen) -> list[tuple[str, str]]:
        """Know a source's good visit from now on; returns what is to be remembered, nothing where nothing is new."""
        if self._known.get(source, Seen()) == seen:
            return []
        self._remember(source, seen)
        return [(IDENTITY, msgspec.json.encode(seen).decode())]

    def _remember(self, source: str, seen: Seen) -> None:
        self._known[source] = seen
        if seen.key:
            self._by_key[seen.key].append(source)

    def _shared(self, source: Source, key: str, kind: str) -> list[str]:
        """Sources of other addresses that showed this key; on purpose where one says that it shares its identity."""
        for name in self._by_key[key]:
            other = self._sources.get(name)
            if other is None or name == source.name or other.identity == "shared" or self._known[name].key != key:
                continue
            if (other.address, other.via) != (source.address, source.via):
                return [f'it shows the {kind} of {name} ({other.address}); if that is right, set identity = "shared"']
        return []
