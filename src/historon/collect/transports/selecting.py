"""Which of the files that are there belong to an export, and whether they came whole."""

import hashlib
import re
import stat
from collections import Counter
from collections.abc import Iterator
from fnmatch import fnmatchcase
from typing import ClassVar

from historon.collect.failures import CollectError, FailureKind
from historon.estate import Clauses, Pull
from historon.store import Part

__all__ = ["Choosing", "Chosen", "check_sum"]

_DIGESTS = {32: "md5", 40: "sha1", 64: "sha256", 96: "sha384", 128: "sha512"}
_STRANGE = {stat.S_IFSOCK: "sockets", stat.S_IFIFO: "pipes", stat.S_IFBLK: "devices", stat.S_IFCHR: "devices"}


class Choosing(Clauses, frozen=True, kw_only=True):
    """Which files of a folder are pulled, and by what one is checked."""

    filled: ClassVar[tuple[str, ...]] = ("include", "exclude", "checksum")
    include: tuple[str, ...] = ()
    exclude: tuple[str, ...] = ()
    checksum: str | None = None

    @property
    def narrows(self) -> bool:
        return bool(self.include or self.exclude)


class Chosen:
    """What `include` and `exclude` of a step take of a tree; what they leave out is counted."""

    def __init__(self, step: Pull[Choosing]) -> None:
        self._include = step.how.include
        self._exclude = step.how.exclude
        self._left_out: Counter[str] = Counter()

    def takes(self, name: str, mode: int) -> bool:
        """Whether this member belongs to the export."""
        kind = _STRANGE.get(stat.S_IFMT(mode))
        if kind:
            self._left_out[kind] += 1
            return False
        if stat.S_ISDIR(mode):
            return not self._include and not _matches(name, self._exclude)
        if (self._include and not _matches(name, self._include)) or _matches(name, self._exclude):
            self._left_out["by include and exclude"] += 1
            return False
        return True

    def remarks(self, base: str) -> Iterator[str]:
        """What was left out, in words."""
        for kind, count in self._left_out.items():
            yield f"{count} excluded from {base}: {kind}" if kind in _STRANGE.values() else f"{count} excluded {kind}"


def _matches(name: str, globs: tuple[str, ...]) -> bool:
    """`*` matches slashes too; a glob without a slash is compared with the last piece of the name."""
    last = name.rpartition("/")[2]
    return any(fnmatchcase(name if "/" in glob else last, glob) for glob in globs)


def check_sum(part: Part, told: str, where: str) -> None:
    """Hold a part against the checksum in a text; which kind it is shows in its length. CollectError if it differs."""
    found = re.search(r"\b(?:[0-9a-fA-F]{32}|[0-9a-fA-F]{40}|[0-9a-fA-F]{64}|[0-9a-fA-F]{96}|[0-9a-fA-F]{128})\b", told)
    if not found:
        raise CollectError(
            FailureKind.STEP, f"no checksum of {where} in: {told[:200]}", hint="run the checksum command by hand"
        )
    kind = _DIGESTS[len(found[0])]
    digest = hashlib.new(kind, usedforsecurity=False)
    for piece in part.pieces():
        digest.update(piece)
    if digest.hexdigest() != found[0].lower():
        raise CollectError(FailureKind.INCOMPLETE, f"{where} is incomplete: its {kind} is not {found[0]}")
