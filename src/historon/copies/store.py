"""A copy that is a whole store in a folder, with all its ledger: it can take the store's place as it is."""

from contextlib import closing

from historon.estate import Copy, Estate
from historon.store import Copied, FolderStore, Store, Verification
from historon.store import verify as verify_store

__all__ = ["update", "verify"]


def update(copy: Copy, estate: Estate, store: Store) -> Copied:
    """See CopyModule."""
    return store.copy_to(estate.path(copy.path))


def verify(copy: Copy, estate: Estate) -> Verification:
    """See CopyModule. It is read as the store that it is."""
    with closing(FolderStore(estate.path(copy.path))) as there:
        return verify_store(there, sorted(there.states()))
