"""What changed between two exports, part by part."""

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from enum import StrEnum
from functools import cached_property

from historon.compare.lines import Edit, align, split_lines
from historon.compare.masks import Masks
from historon.compare.texts import align_texts, parted_lines
from historon.store import LARGE, Part, Store, StoredPart

__all__ = ["Kind", "PartChange", "comparable", "compare_exports", "is_binary"]


class Kind(StrEnum):
    """How a part differs."""

    ADDED = "added"
    REMOVED = "removed"
    EDITED = "edited"
    BINARY = "binary"


@dataclass(frozen=True)
class PartChange:
    """One part that differs: both contents, the edits that count, and the masks through which eyes may see it."""

    name: str
    kind: Kind
    old_content: bytes
    new_content: bytes
    edits: Sequence[Edit]
    masks: Masks

    @cached_property
    def old(self) -> list[bytes]:
        """The lines before, fit for eyes."""
        return split_lines(self.masks.hide(self.old_content))

    @cached_property
    def new(self) -> list[bytes]:
        """The lines after, fit for eyes."""
        return split_lines(self.masks.hide(self.new_content))

    @property
    def added(self) -> int:
        """How many lines came."""
        return sum(edit.new_to - edit.new_from for edit in self.edits)

    @property
    def removed(self) -> int:
        """How many lines went."""
        return sum(edit.old_to - edit.old_from for edit in self.edits)


def compare_exports(old: Mapping[str, bytes], new: Mapping[str, bytes], masks: Masks) -> list[PartChange]:
    """The parts that differ by more than noise, by name."""
    return [
        change
        for name in sorted(old.keys() | new.keys())
        if old.get(name) != new.get(name) and (change := _compare(name, old.get(name), new.get(name), masks))
    ]


def comparable(part: Part | StoredPart, store: Store) -> bytes:
    """The content of a part; of a large one a stand-in, which is binary and equal only where the digests are."""
    if part.size > LARGE:
        return b"\0%d bytes, SHA-256 %s" % (part.size, part.sha256.hex().encode())
    return part.content if isinstance(part, Part) else store.read(part)


def is_binary(content: bytes) -> bool:
    """Whether this is no text: a NUL byte in its first 8,000."""
    return b"\0" in content[:8000]


def _compare(name: str, old: bytes | None, new: bytes | None, masks: Masks) -> PartChange | None:
    kind = Kind.ADDED if old is None else Kind.REMOVED if new is None else Kind.EDITED
    left, right = old or b"", new or b""
    if is_binary(left) or is_binary(right):
        return PartChange(name, Kind.BINARY if kind is Kind.EDITED else kind, left, right, (), masks)
    edits = _edits(left, right, masks.for_part(name) if kind is Kind.EDITED else None)
    return PartChange(name, kind, left, right, edits, masks) if edits or kind is not Kind.EDITED else None


def _edits(left: bytes, right: bytes, masks: Masks | None) -> list[Edit]:
    """The edits between two texts, without those that are noise."""
    edits = align_texts(left, right)
    if not edits or masks is None or not masks.has_noise:
        return edits
    before, old, new = parted_lines(left, right)
    return [
        Edit(edit.old_from + before, edit.old_to + before, edit.new_from + before, edit.new_to + before)
        for edit in _telling(edits, before, old, new, masks)
    ]


def _telling(
    edits: list[Edit], before: int, old: Sequence[bytes], new: Sequence[bytes], masks: Masks
) -> Iterator[Edit]:
    """The edits without those that are noise: each is aligned once more by what of its lines counts.

    The lines given begin with the one of number `before`, from which the edits that come back count.
    """
    for edit in edits:
        at, to = edit.old_from - before, edit.new_from - before
        left = [masks.essence(line) for line in old[at : edit.old_to - before]]
        right = [masks.essence(line) for line in new[to : edit.new_to - before]]
        for inner in align(left, right):
            if any(left[inner.old_from : inner.old_to]) or any(right[inner.new_from : inner.new_to]):
                yield Edit(at + inner.old_from, at + inner.old_to, to + inner.new_from, to + inner.new_to)
