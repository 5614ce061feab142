"""What a kind of copy is to the rest: a module of this package, called as the kind is."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from datetime import datetime
from pathlib import Path
from typing import Any, Protocol

from historon.estate import Estate
from historon.store import Copied, Damage, Store, Verification

__all__ = ["CopyModule", "Holdings"]


@dataclass(frozen=True)
class Holdings:
    """What a copy says that it holds: for which store, and the digest of each version, by source and number.

    `store` is empty where the copy does not say; a digest is None where the copy holds the version in another form.
    """

    store: str
    digests: Mapping[str, Mapping[int, bytes | None]] = field(default_factory=dict)

    @property
    def last_numbers(self) -> dict[str, int]:
        """The highest number of a version that it holds of each source."""
        return {source: max(numbers) for source, numbers in self.digests.items() if numbers}


class CopyModule(Protocol):
    """A module of this package; its copies are of its own class."""

    def update(self, copy: Any, estate: Estate, store: Store, now: datetime, damaged: Sequence[Damage]) -> Copied:
        """Bring a copy up to date with the store, and write again what is known to be `damaged` in it.

        Raises StoreError, OutsideError; RefusedError, and the copy stays as it was, when it belongs to another store,
        or when it holds a version that the store neither has, as it is there, nor removed on a record that holds.
        """

    def is_there(self, copy: Any, estate: Estate) -> bool | None:
        """Whether there is anything in the copy's place; None where only asking another machine would show it."""

    def is_newer(self, copy: Any, estate: Estate, store: Store, *, ask: bool) -> bool | None:
        """Whether the copy was made of a later state of this store than it is in now: it went back to an earlier one.

        None where only another machine or program would tell, and `ask` does not let it. StoreError, OutsideError.
        """

    def holdings(self, copy: Any, estate: Estate, store: Store) -> Holdings:
        """What a copy says that it holds. Raises StoreError, OutsideError."""

    def verify(self, copy: Any, estate: Estate, store: Store, sample: int | None, settings: str) -> Verification:
        """Read all that is in a copy, or so many of its contents, and check it against itself and the store.

        `settings` is the digest of the estate's own files as the copy was given them. Raises StoreError, OutsideError.
        """

    def fetch(self, copy: Any, estate: Estate, folder: Path) -> list[Damage]:
        """Write all that is whole in a copy into an empty folder, as a copy of kind `store` is; returns what is not.

        Of a kind that holds versions and instants only, the rest of the ledger is empty. Raises StoreError where
        nothing can be made of it.
        """
