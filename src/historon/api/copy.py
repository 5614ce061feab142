"""A copy: a second place for the versions, updated and read as a store of its own."""

from collections.abc import Sequence
from dataclasses import dataclass, field
from datetime import UTC, datetime
from typing import TYPE_CHECKING

from historon.api.context import Opened
from historon.base.errors import RefusedError, UsageError
from historon.estate import nearest

if TYPE_CHECKING:
    from historon.copies import CopyStatus
    from historon.store import Copied, Verification

__all__ = ["Copy", "copies_named", "newest_first", "statuses_of"]


@dataclass(frozen=True)
class Copy:
    """A copy by its `name` in the estate file."""

    name: str
    opened: Opened = field(repr=False, compare=False)

    def __str__(self) -> str:
        return self.name

    def status(self) -> "CopyStatus":
        """How far the copy is behind the store."""
        return statuses_of(self.opened, [self])[0]

    def update(self) -> "Copied":
        """Update the copy, and replace what was found damaged in it.

        Raises RefusedError, and changes no copy, when the copy and the store contradict each other.
        """
        from historon.copies import bring_up_to_date, note_copied, note_refused

        opened, began = self.opened, self.opened.clock()
        opened.to_write()
        try:
            copied = bring_up_to_date(opened.described, self.name, began)
        except RefusedError as exc:
            note_refused(opened.store, self.name, exc)
            raise
        note_copied(opened.store, self.name, began, copied)
        return copied

    def verify(self, *, sample: int | None = None) -> "Verification":
        """Read every version in the copy and check it, or a random `sample` of so many items.

        Damage that it finds stays on record until it is repaired.
        """
        from historon.copies import note_verified, verify_copy

        began = self.opened.clock()
        found = verify_copy(self.opened.described, self.name, sample)
        note_verified(self.opened.store, self.name, began, found)
        return found


def copies_named(opened: Opened, *names: str) -> list[Copy]:
    """These copies, or all. Raises UsageError when one does not exist."""
    known = opened.described.copies
    for name in names:
        if name not in known:
            hint = nearest(name, known) or "add one to [copies] in the estate file"
            raise UsageError(f'there is no copy "{name}"', hint=hint)
    return [Copy(name, opened) for name in names or known]


def statuses_of(opened: Opened, copies: Sequence[Copy]) -> "list[CopyStatus]":
    """How far these copies are behind the store; each place is looked at once."""
    from historon.copies import copies_of

    found = {one.name: one for one in copies_of(opened.described, opened.store, opened.clock())}
    return [found[copy.name] for copy in copies]


def newest_first(opened: Opened, copies: Sequence[Copy]) -> list[Copy]:
    """These copies, the last updated first: it knows most of what the store must still have."""
    at = {one.name: one.at for one in statuses_of(opened, copies)}
    never = datetime.min.replace(tzinfo=UTC)
    return sorted(copies, key=lambda copy: at[copy.name] or never, reverse=True)
