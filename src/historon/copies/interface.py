"""What a kind of copy is to the rest: a module of this package, called as the kind is."""

from pathlib import Path
from typing import Any, Protocol

from historon.estate import Estate
from historon.store import Copied, Store, Verification

__all__ = ["CopyModule"]


class CopyModule(Protocol):
    """A module of this package; its copies are of its own class."""

    def update(self, copy: Any, estate: Estate, store: Store) -> Copied:
        """Bring a copy up to date with the store, as of now. Raises StoreError, OutsideError."""

    def verify(self, copy: Any, estate: Estate, sample: int | None) -> Verification:
        """Read all that is in a copy, or so many of its contents, and check it against what it should be.

        Raises StoreError, OutsideError.
        """

    def fetch(self, copy: Any, estate: Estate, folder: Path) -> None:
        """Write all that a copy holds into an empty folder, as a copy of kind `store` is.

        Of a kind that holds versions and instants alone, the rest of the ledger is empty. Raises StoreError.
        """
