"""Which engine a store has: the only place that names them."""

from pathlib import Path

from historon.estate import Estate
from historon.store.interface import Store
from historon.store.sqlite.folder import FolderStore

__all__ = ["create_store", "open_store"]


def open_store(estate: Estate, *, spend_reserve: bool = False, to_read: bool = False) -> Store:
    """The estate's store. StoreError when it is not there, cannot be reached, or is newer than this program.

    With `spend_reserve` room that was set aside is given up first, so that there is some to remove things with.
    `to_read` lets a store be read on a disk without a byte left; it takes nothing then, whatever becomes of the disk.
    """
    settings = estate.settings
    if estate.store_folder is not None:
        return FolderStore(estate.store_folder, indexed=settings.index, spend_reserve=spend_reserve, to_read=to_read)
    from historon.store.postgresql.server import PostgresStore

    return PostgresStore(settings.store, estate.folder, settings.store_password, indexed=settings.index)


def create_store(estate: Estate, copy: Path | None = None) -> Store:
    """Make the estate's store, empty or with all that a copy in a folder holds. StoreError when there is one."""
    settings = estate.settings
    if estate.store_folder is not None:
        return FolderStore.create(estate.store_folder, copy)
    from historon.store.postgresql.server import PostgresStore

    return PostgresStore.create(settings.store, estate.folder, settings.store_password, copy)
