"""To which estate a store belongs, and which sources it should still have."""

from collections.abc import Sequence
from dataclasses import dataclass, field

from historon.api.context import Opened
from historon.store import RETIRED, Writer, admit_writer, stranger, writers_of

__all__ = ["Ownership", "missing_from"]


@dataclass(frozen=True)
class Ownership:
    """The estate files that may write to the store, each with its machine."""

    opened: Opened = field(repr=False, compare=False)

    def writers(self) -> list[Writer]:
        """The estate files that may write; empty for a store that is not in use yet.

        Example: `[str(one) for one in estate.ownership.writers()]`
        """
        return writers_of(self.opened.store)

    def stranger(self) -> str:
        """The reason why this estate file may not write to the store; empty where it may.

        Example: `estate.ownership.stranger() == ""`
        """
        return stranger(self.opened.store, self.opened.file)

    def take_over(self, *, beside: bool = False) -> Sequence[Writer]:
        """Let this estate file write to the store from now on, instead of the others or `beside` them.

        Returns the estate files that could write until now.

        Example: `estate.ownership.take_over()`
        """
        return admit_writer(self.opened.store, self.opened.file, beside=beside)

    def separate(self) -> None:
        """Make a store that was copied with its estate a store of its own: copies of the first one refuse it.

        Example: `estate.ownership.separate()`
        """
        from historon.copies import forget_copies

        self.opened.store.renew_key()
        forget_copies(self.opened.store, self.opened.described)
        self.take_over()


def missing_from(opened: Opened) -> list[str]:
    """Sources that have versions, or that the estate had before, and that are neither described nor retired."""
    from historon.timetable.accepted import accepted_estate

    was = accepted_estate(opened.store, opened.file)
    known = {name for name, state in opened.store.states().items() if state.good is not None}
    known |= was.sources.keys() if was is not None else set()
    return sorted(known - opened.described.sources.keys() - opened.store.recall_all(RETIRED).keys())
