"""What a kind of copy is to the rest: a module of this package, called as the kind is."""

from typing import Protocol

from historon.estate import Copy, Estate
from historon.store import Copied, Store, Verification

__all__ = ["CopyModule"]


class CopyModule(Protocol):
    """A module of this package."""

    def update(self, copy: Copy, estate: Estate, store: Store) -> Copied:
        """Bring a copy up to date with the store, as of now. Raises StoreError, OutsideError."""

    def verify(self, copy: Copy, estate: Estate) -> Verification:
        """Read all that is in a copy, and check it against what it should be. Raises StoreError, OutsideError."""
