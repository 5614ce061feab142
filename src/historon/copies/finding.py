"""A copy that is to be made an estate of, wherever it is: brought into a folder of this machine first."""

import json
from collections.abc import Iterator, Sequence
from contextlib import closing, contextmanager
from dataclasses import dataclass
from pathlib import Path

from historon.base.disk import scratch
from historon.base.errors import StoreError, UsageError
from historon.copies.checking import store_identity
from historon.copies.manifest import MANIFEST
from historon.copies.status import fetch_copy
from historon.estate import Estate, nearest, read_estate
from historon.store import LEDGER, Damage, FolderStore, Store, admit_writer, create_store, note_losses, rescue

__all__ = ["AtHand", "copy_at_hand", "store_from"]

_PLACES = "a folder with a copy, or an estate file that describes one copy"


@dataclass(frozen=True)
class AtHand:
    """A copy in a folder of this machine, as one of kind `store` is, and what of it could not be brought there."""

    folder: Path
    lost: Sequence[Damage] = ()


@contextmanager
def copy_at_hand(place: str, estate: Estate | None = None) -> Iterator[AtHand]:
    """What a copy holds, as a folder like that of a copy of kind `store`.

    `place` is a folder with a copy; an estate file (its name ends with .toml) that describes one; or, with an estate,
    the name of one of its copies. Raises UsageError, StoreError, OutsideError.
    """
    if (Path(place) / LEDGER).is_file():
        yield AtHand(Path(place))
        return
    described, name = _described(place, estate)
    with scratch() as folder:
        lost = fetch_copy(described, name, folder)
        yield AtHand(folder, lost)


def store_from(estate: Estate, copy: AtHand) -> tuple[Store, list[Damage]]:
    """Make the estate's store of all that is whole in a copy; returns what is not, too. Raises StoreError."""
    _clear_half_made(estate, copy)
    try:
        made, lost = create_store(estate, copy.folder), list(copy.lost)
    except StoreError:
        if copy.lost:
            raise
        with scratch() as folder:
            lost = rescue(copy.folder, folder)
            if not lost:
                raise
            made = create_store(estate, folder)
    admit_writer(made, estate.file, beside=False)  # it takes the place of the lost one
    note_losses(made, lost)
    return made, lost


def _clear_half_made(estate: Estate, copy: AtHand) -> None:
    """Remove a store that was made of this very copy by a process that was killed before it came to its end.

    It is one only where no estate file is beside it yet, and where the copy has all that it has.
    """
    folder = estate.store_folder
    if folder is None or estate.file.exists() or not (folder / LEDGER).is_file():
        return
    try:
        with closing(FolderStore(copy.folder)) as there, closing(FolderStore(folder)) as made:
            same = store_identity(there) == store_identity(made)
            same = same and all(_numbers(made, name) <= _numbers(there, name) for name in made.states())
    except StoreError:
        return
    if same:
        for ending in ("", "-wal", "-shm", "-journal"):
            (folder / f"{LEDGER}{ending}").unlink(missing_ok=True)


def _numbers(store: Store, source: str) -> set[int]:
    return {one.number for one in store.versions(source)}


def _described(place: str, estate: Estate | None) -> tuple[Estate, str]:
    """The estate that a copy stands in, and the copy's name in it."""
    path = Path(place).absolute()
    if place.endswith(".toml"):
        described = read_estate(path)
        if len(described.copies) != 1:
            message = f"{place} describes {len(described.copies)} copies"
            raise UsageError(message, hint="leave only the right one in it")
        return described, next(iter(described.copies))
    if estate is not None and place in estate.copies:
        return estate, place
    if (path / MANIFEST).is_file():
        return _estate_of("folder", path), "it"
    if (path / "HEAD").is_file() and (path / "objects").is_dir():
        return _estate_of("git", path), "it"
    hint = nearest(place, estate.copies) if estate is not None and estate.copies else f"name {_PLACES}"
    raise UsageError(f"{place}: there is no copy here", hint=hint)


def _estate_of(kind: str, path: Path) -> Estate:
    """An estate that has nothing but a copy of this kind there."""
    text = f'[estate]\nname = "lost"\n[copies.it]\nkind = "{kind}"\npath = {json.dumps(str(path))}\n'
    return read_estate(path / "historon.toml", text)
