"""A copy that is a whole store in a folder, with all its ledger: it can take the store's place as it is.

Beside it, in the folder `estate`, lie the files that describe the estate, for the day on which the machine is lost.
"""

import shutil
import tempfile
from collections.abc import Mapping
from contextlib import closing, suppress
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING, ClassVar

from historon.copies import objects
from historon.copies.objects import SETTINGS
from historon.copies.places import left_out
from historon.errors import StoreError
from historon.estate import Estate, FarCopy, replace_file, settings_digest, settings_files
from historon.store import Copied, FolderStore, Store, Verification
from historon.store import verify as verify_store

if TYPE_CHECKING:
    from historon.copies.sftp import SftpObjects

__all__ = ["StoreCopy", "fetch", "update", "verify"]


class StoreCopy(FarCopy, frozen=True, kw_only=True):
    """`kind = "store"`: a whole store in a folder; on a server as objects, as in a bucket."""

    kind: ClassVar[str] = "store"
    carries_settings: ClassVar[bool] = True

    retention: str | None = None

    @property
    def own_retention(self) -> str | None:
        """See Copy."""
        return self.retention


def update(copy: StoreCopy, estate: Estate, store: Store) -> Copied:
    """See CopyModule."""
    if copy.server is not None:
        with _far(copy, estate, writes=True) as there:
            return objects.update(there, estate, store, copy.retention)
    place = estate.path(copy.path)
    if copy.retention is None:
        copied = store.copy_to(place)
    else:
        copied = _copy_thinned(estate, store, place, copy.retention)
    try:
        files = settings_files(estate)
        _carry(files, place / SETTINGS)
    except OSError as exc:
        message = f"{exc.filename or place}: the estate's own files could not be copied: {exc.strerror}"
        raise StoreError(message, hint="all versions are there; is there room, and can they be read?") from exc
    return replace(copied, settings=settings_digest(files))


def _copy_thinned(estate: Estate, store: Store, place: Path, retention: str) -> Copied:
    """Bring a copy up to date that holds what its own retention keeps, by way of a whole one that is thinned first."""
    changes = store.change_number()
    with tempfile.TemporaryDirectory(prefix="historon-") as name:
        folder = Path(name) / "store"
        store.copy_to(folder)
        with closing(FolderStore(folder)) as thinned:
            for going, removal in left_out(estate, retention, {one: thinned.versions(one) for one in thinned.states()}):
                thinned.remove(going, removal)
            thinned.reclaim()
            copied = thinned.copy_to(place)
    return replace(copied, changes=changes)


def _far(copy: StoreCopy, estate: Estate, *, writes: bool) -> "SftpObjects":
    """The objects of a copy on a server, which only those need that have one."""
    from historon.copies.sftp import SftpObjects

    return SftpObjects(copy, estate, writes=writes)


def _carry(wanted: Mapping[str, bytes], folder: Path) -> None:
    """Make a folder hold these files, and no others."""
    folder.mkdir(mode=0o700, exist_ok=True)
    for name, content in wanted.items():
        file = folder / name
        file.parent.mkdir(mode=0o700, parents=True, exist_ok=True)
        if not file.is_file() or file.read_bytes() != content:
            replace_file(file, content)
    for file in sorted(folder.rglob("*"), reverse=True):
        if file.is_dir() and not file.is_symlink():
            with suppress(OSError):
                file.rmdir()  # where nothing is left in it
        elif file.relative_to(folder).as_posix() not in wanted:
            file.unlink()


def verify(copy: StoreCopy, estate: Estate, sample: int | None) -> Verification:
    """See CopyModule. It is read as the store that it is."""
    if copy.server is not None:
        with _far(copy, estate, writes=False) as objects_there:
            return objects.verify(objects_there, sample)
    with closing(FolderStore(estate.path(copy.path))) as there:
        return verify_store(there, sorted(there.states()), sample=sample)


def fetch(copy: StoreCopy, estate: Estate, folder: Path) -> None:
    """See CopyModule."""
    if copy.server is not None:
        with _far(copy, estate, writes=False) as there:
            objects.fetch(there, folder)
        return
    place = estate.path(copy.path)
    with closing(FolderStore(place)) as store:
        store.copy_to(folder)
    if (place / SETTINGS).is_dir():
        shutil.copytree(place / SETTINGS, folder / SETTINGS)
