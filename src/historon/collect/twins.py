"""Exports that another source has too, to the byte: then one of the two was asked for the other.

Fleets may share a file: sources that were ever the same are no surprise.
"""

import hashlib
from collections.abc import Sequence

from historon.store import Part, Store, StoredPart

__all__ = ["EXPORT", "Twins"]

EXPORT = "export"  # the topic under which digests of a source's last exports are remembered, the newest first
_REMEMBERED = 5
_LEAST = 256  # bytes, under which two exports may be the same by chance
_DIGITS = 32


class Twins:
    """The last exports of all sources, of those that procedure and round have in common."""

    def __init__(self, store: Store) -> None:
        self._known = {name: text.split() for name, text in store.recall_all(EXPORT).items()}

    def look(self, source: str, alike: Sequence[str], parts: Sequence[Part | StoredPart]) -> tuple[str, str]:
        """Which of the sources that are collected `alike` has this export, and never had one in common with `source`.

        Empty for none. With it, what is to be remembered if the export is good.
        """
        whole = hashlib.sha256(b"".join(sorted(part.sha256 for part in parts))).hexdigest()[:_DIGITS]
        mine = self._known.get(source, [])
        remembered = [whole, *(one for one in mine if one != whole)][:_REMEMBERED]
        if sum(part.size for part in parts) < _LEAST or whole in mine:
            return "", " ".join(remembered)
        twins = (
            name
            for name in alike
            if name != source and self._known.get(name, [""])[0] == whole and not set(mine) & set(self._known[name])
        )
        return next(twins, ""), " ".join(remembered)

    def note(self, source: str, remembered: str) -> None:
        """Know what a source holds from now on."""
        self._known[source] = remembered.split()
