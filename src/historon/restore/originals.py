"""Giving files back to where they were collected from, on this machine: only what is missing, or is not as it was."""

import hashlib
import os
import stat
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field
from pathlib import Path

from historon.errors import UsageError
from historon.estate import Estate, Pull, Source, fill, values_of, walk
from historon.restore.writing import Naming, Restored, write_version
from historon.store import LARGE, Store, StoredPart, Version, name_of, raw_name
from historon.versions import Masks, is_called

__all__ = ["Original", "OriginalState", "give_back", "originals"]

_MOST_STRANGERS = 1_000


@dataclass(frozen=True)
class Original:
    """A file that is missing where it was, or is not as it was; `now` is what it holds, None for a large one too."""

    part: StoredPart
    file: Path
    missing: bool
    now: bytes | None = field(default=None, repr=False)


@dataclass
class OriginalState:
    """How the files of a version are where they were: those to be given back, how many are as they were, and others.

    `strangers` were not there then.
    """

    differing: list[Original] = field(default_factory=list)
    same: int = 0
    strangers: list[Path] = field(default_factory=list)


@dataclass(frozen=True)
class _Place:
    """Where the parts below a name were: a folder, or, for a single file, the file itself."""

    base: str
    path: Path
    is_file: bool

    @property
    def naming(self) -> Naming:
        """How parts are called below the folder that they are written to."""
        return Naming(inside=self.base, single=self.path.name if self.is_file else None)

    @property
    def folder(self) -> Path:
        """The folder that they are written to."""
        return self.path.parent if self.is_file else self.path


def originals(estate: Estate, source: Source, store: Store, version: Version, only: str | None = None) -> OriginalState:
    """How the files of a version are now. UsageError where nothing is known of where they were."""
    found = OriginalState()
    parts = store.parts(version.source, version.number)
    for place in _places(estate, source, parts):
        named = [(place.naming.name(part.name), part) for part in parts if not part.is_tree]
        there = {name: part for name, part in named if name}
        for name, part in there.items():
            if only is None or is_called(part.name, only):
                _look(place.folder.joinpath(*map(os.fsdecode, raw_name(name).split(b"/"))), part, found)
        if not place.is_file and only is None:
            found.strangers += _strangers(place.path, set(there))
    return found


def give_back(
    estate: Estate, source: Source, store: Store, version: Version, masks: Masks, only: str | None = None
) -> Restored:
    """Write what is missing or differs to where it was, with owner, mode and times as far as they are known."""
    made = Restored()
    parts = store.parts(version.source, version.number)
    for place in _places(estate, source, parts):
        wanted = [part for part in parts if place.naming.name(part.name) is not None]
        if only is not None and not any(is_called(part.name, only) for part in wanted):
            continue
        done = write_version(
            store,
            version,
            place.folder,
            masks,
            only=only,
            overwrite=True,
            permissions=True,
            outward_links=True,
            naming=place.naming,
        )
        made.files += done.files
        made.already += done.already
        made.left_out += done.left_out
    return made


def _places(estate: Estate, source: Source, parts: Sequence[StoredPart]) -> list[_Place]:
    procedure = estate.procedure_of(source)
    if procedure.over != "local":
        message = f"{source.name} is not of this machine, but over {procedure.over}"
        raise UsageError(message, hint="restore it to a folder: --to DIR")
    values = values_of(source, procedure)
    found = []
    for _, step in walk(procedure.steps):
        if not isinstance(step, Pull) or step.newest is not None:
            continue  # what a program printed has no place, and which was the newest then nobody knows
        try:
            path = estate.path(str(fill(step.says, values)))
        except LookupError:
            continue
        base = step.as_ or name_of(os.fsencode(path.name))
        is_file = any(part.name == base for part in parts)
        if is_file or any(part.name.startswith(f"{base}/") for part in parts):
            found.append(_Place(base, path, is_file))
    if not found:
        message = f"nothing of {source.name} was a file whose place is known"
        raise UsageError(message, hint="restore it to a folder: --to DIR")
    return found


def _look(file: Path, part: StoredPart, found: OriginalState) -> None:
    try:
        status = file.lstat()
    except (FileNotFoundError, NotADirectoryError):
        found.differing.append(Original(part, file, missing=True))
        return
    if stat.S_ISREG(status.st_mode) and status.st_size == part.size:
        with file.open("rb") as opened:
            if hashlib.file_digest(opened, "sha256").digest() == part.sha256:
                found.same += 1
                return
    is_small = stat.S_ISREG(status.st_mode) and status.st_size <= LARGE
    found.differing.append(Original(part, file, missing=False, now=file.read_bytes() if is_small else None))


def _strangers(folder: Path, known: set[str]) -> Iterator[Path]:
    """The files below a folder that are none of those; no more than anybody reads."""
    count = 0
    for path, _, names in os.walk(folder):
        for name in names:
            file = Path(path, name)
            if name_of(os.fsencode(str(file.relative_to(folder)))) not in known and not file.is_symlink():
                yield file
                count += 1
                if count == _MOST_STRANGERS:
                    return
