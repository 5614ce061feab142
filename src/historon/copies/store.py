"""A copy that is a whole store in a folder, with all its ledger: it can take the store's place as it is.

Beside it, in the folder `estate`, lie the files that describe the estate, for the day on which the machine is lost.
"""

import shutil
from collections.abc import Mapping, Sequence
from contextlib import closing, suppress
from dataclasses import replace
from datetime import datetime
from pathlib import Path
from typing import TYPE_CHECKING, ClassVar

from historon.base.disk import scratch
from historon.base.errors import StoreError
from historon.copies import objects
from historon.copies.checking import compare_with_store, store_identity
from historon.copies.interface import Holdings
from historon.copies.objects import SETTINGS
from historon.copies.places import left_out
from historon.copies.removals import approval_of
from historon.estate import Estate, FarCopy, replace_file, settings_digest, settings_files
from historon.store import LEDGER, Approval, Copied, Damage, FolderStore, Store, Verification, glance_at, rescue
from historon.store import verify as verify_store

if TYPE_CHECKING:
    from historon.copies.sftp import SftpObjects

__all__ = ["StoreCopy", "fetch", "holdings", "is_there", "update", "verify"]


class StoreCopy(FarCopy, frozen=True, kw_only=True):
    """`kind = "store"`: a whole store in a folder; on a server as objects, as in a bucket."""

    kind: ClassVar[str] = "store"
    carries_settings: ClassVar[bool] = True

    retention: str | None = None

    @property
    def own_retention(self) -> str | None:
        return self.retention


def is_there(copy: StoreCopy, estate: Estate) -> bool | None:
    """See CopyModule."""
    return (estate.path(copy.path) / LEDGER).is_file() if copy.server is None else None


def is_newer(copy: StoreCopy, estate: Estate, store: Store, *, ask: bool) -> bool | None:
    """See CopyModule."""
    if copy.server is not None:
        if not ask:
            return None
        with _far(copy, estate, writes=False) as objects_there:
            return objects.is_newer(objects_there, store)
    place = estate.path(copy.path)
    if not (place / LEDGER).is_file():
        return False
    key, numbers = glance_at(place / LEDGER)
    known = store.last_numbers()
    return key == store.fingerprint_key() and any(number > known.get(source, 0) for source, number in numbers.items())


def update(copy: StoreCopy, estate: Estate, store: Store, now: datetime, damaged: Sequence[Damage]) -> Copied:
    """See CopyModule. Every row of the copy is compared with the store's, so what is damaged is written again."""
    if copy.server is not None:
        with _far(copy, estate, writes=True) as there:
            return objects.update(there, estate, store, copy.retention, now, damaged)
    place, approve = estate.path(copy.path), approval_of(estate, store, now)
    if copy.retention is None:
        copied = store.copy_to(place, approve)
    else:
        copied = _copy_thinned(estate, store, place, copy.retention, approve)
    try:
        files = settings_files(estate)
        _carry(files, place / SETTINGS)
    except OSError as exc:
        message = f"{exc.filename or place}: the estate's own files could not be copied: {exc.strerror}"
        raise StoreError(
            message, hint="all versions are there; check the free space, and that these files are readable"
        ) from exc
    return replace(copied, settings=settings_digest(files), mended=tuple(map(str, damaged)))


def _copy_thinned(estate: Estate, store: Store, place: Path, retention: str, approve: Approval) -> Copied:
    """Bring a copy up to date that holds what its own retention keeps, by way of a whole one that is thinned first."""
    changes = store.change_number()
    with scratch() as aside:
        folder = aside / "store"
        store.copy_to(folder)
        with closing(FolderStore(folder)) as thinned:
            for going, removal in left_out(estate, retention, {one: thinned.versions(one) for one in thinned.states()}):
                thinned.remove(going, removal)
            thinned.reclaim()
            copied = thinned.copy_to(place, approve)
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


def verify(copy: StoreCopy, estate: Estate, store: Store, sample: int | None, settings: str) -> Verification:
    """See CopyModule. It is read as the store that it is, and compared with the store that it is a copy of."""
    if copy.server is not None:
        with _far(copy, estate, writes=False) as objects_there:
            return objects.verify(objects_there, store, sample, settings)
    place = estate.path(copy.path)
    with closing(FolderStore(place)) as there:
        found = verify_store(there, sorted(there.states()), sample=sample)
        if not found.ledger:
            damaged = {one.source for one in found.damages}
            digests = {source: there.digests(source) for source in there.states() if source not in damaged}
            compare_with_store(found, there, digests, store)
    if settings and _digest_of(place / SETTINGS) != settings:
        found.differing.append(
            Damage("", None, str(place / SETTINGS), "these are not the files that the copy was given")
        )
    return found


def _digest_of(folder: Path) -> str:
    """The digest of the estate's own files in a copy; empty where they cannot be read."""
    try:
        files = {one.relative_to(folder).as_posix(): one.read_bytes() for one in folder.rglob("*") if one.is_file()}
    except OSError:
        return ""
    return settings_digest(files)


def holdings(copy: StoreCopy, estate: Estate, _store: Store) -> Holdings:
    """See CopyModule."""
    if copy.server is not None:
        with _far(copy, estate, writes=False) as there:
            return objects.holdings(there)
    with closing(FolderStore(estate.path(copy.path), untouched=True)) as held:
        return Holdings(store_identity(held), {source: held.digests(source) for source in held.states()})


def fetch(copy: StoreCopy, estate: Estate, folder: Path) -> list[Damage]:
    """See CopyModule."""
    if copy.server is not None:
        with _far(copy, estate, writes=False) as there:
            return objects.fetch(there, folder)
    place = estate.path(copy.path)
    lost = rescue(place, folder)
    if (place / SETTINGS).is_dir():
        shutil.copytree(place / SETTINGS, folder / SETTINGS)
    return lost
