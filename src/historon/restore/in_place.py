"""Restoring files to where they were collected from, on this machine: only what is missing, or is not as it was."""

import hashlib
import os
import stat
from collections.abc import Iterator, Sequence
from contextlib import ExitStack, suppress
from dataclasses import dataclass, field
from pathlib import Path

from historon.base.errors import OutsideError, UsageError
from historon.base.folders import Below, Dress, final
from historon.estate import Estate, Pull, Source, fill, values_of, walk
from historon.restore.dressing import as_file, differences, dress_folder, dressed, target_of
from historon.restore.writing import Naming, Restored, members_of
from historon.store import LARGE, Member, Store, StoredPart, Version, name_of
from historon.versions import is_called

__all__ = ["Original", "OriginalState", "give_back", "originals"]

_MOST_STRANGERS = 1_000


@dataclass(frozen=True)
class Original:
    """Something that is missing where it was, or is not as it was; `how` says in words what differs.

    `part` is None for a folder and a link. `now` is what a file holds, None for a large one too.
    """

    file: Path
    how: tuple[str, ...]
    part: StoredPart | None = None
    member: Member | None = None
    now: bytes | None = field(default=None, repr=False)

    @property
    def missing(self) -> bool:
        """Whether nothing is there."""
        return self.how == (MISSING,)


MISSING = "is missing"


@dataclass
class OriginalState:
    """How the files of a version are where they were: those to be restored, how many are as they were, and others.

    `strangers` were not there then. `unheld` says what restoring takes from files that are there, and what the version
    does not hold.
    """

    differing: list[Original] = field(default_factory=list)
    same: int = 0
    strangers: list[Path] = field(default_factory=list)
    unheld: list[str] = field(default_factory=list)


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


def originals(
    estate: Estate, source: Source, store: Store, version: Version, only: Sequence[str] = (), *, missing: bool = False
) -> OriginalState:
    """How the files, folders and links of a version are now; with `missing` only what is not there counts.

    UsageError where nothing is known of where they were.
    """
    found = OriginalState()
    parts = store.parts(version.source, version.number)
    members = dict(members_of(store, parts))
    for place in _places(estate, source, parts):
        named = {told: part for part in parts if not part.is_tree and (told := place.naming.name(part.name))}
        called = {told: member for name, member in members.items() if (told := place.naming.name(name))}
        with ExitStack() as stack:
            below = _opened(place.folder, stack)
            for name in sorted({*named, *called}):
                part = named.get(name)
                full = part.name if part is not None else f"{place.base}/{name}"
                if not only or any(is_called(full, one) for one in only):
                    _look(below, place.folder, name, part, called.get(name), found, missing=missing)
        if not place.is_file and not only:
            found.strangers += _strangers(place.path, {*named, *called})
    return found


def _opened(folder: Path, stack: ExitStack) -> Below | None:
    """A folder, without links that another user could have placed; None where there is none."""
    try:
        return stack.enter_context(Below(folder))
    except (FileNotFoundError, NotADirectoryError):
        return None


def give_back(store: Store, plan: OriginalState) -> Restored:
    """Write what a plan says, and nothing else: with owner, mode and times as far as they are known."""
    made = Restored()
    for one in plan.differing:
        with Below(one.file.parent, make=True) as below:
            try:
                _give(store, below, one)
            except OSError as exc:
                hint = "the files before it are restored; run this again"
                raise OutsideError(f"{one.file}: {exc.strerror}", hint=hint) from exc
        made.files.append((one.file, one.part.size if one.part else 0))
    for one in sorted(plan.differing, key=lambda each: str(each.file), reverse=True):
        if one.member is not None and stat.S_ISDIR(one.member.mode):  # its time, once what is in it has come
            with Below(one.file.parent) as below:
                dress_folder(below, one.file.name, one.member, permissions=True)
    return made


def _give(store: Store, below: Below, one: Original) -> None:
    """Restore one thing; a file is written again whatever differs, as its names elsewhere may be another user's."""
    name = one.file.name
    there = below.stat(name)
    if there is not None and stat.S_ISDIR(there.st_mode) and not (one.member and stat.S_ISDIR(one.member.mode)):
        below.remove(name)
    if one.part is not None:
        below.write(name, store.pieces(one.part), dressed(one.member, permissions=True) or _like(there))
    elif one.member is not None and stat.S_ISLNK(one.member.mode):
        below.link(name, target_of(one.member))
    elif one.member is not None:
        if there is not None and not stat.S_ISDIR(there.st_mode):
            below.remove(name)
        below.make_folder(name)


def _places(estate: Estate, source: Source, parts: Sequence[StoredPart]) -> list[_Place]:
    procedure = estate.procedure_of(source)
    if procedure.over != "local":
        message = f"{source.name} is not a source of this machine, but over {procedure.over}"
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
        if is_file:
            with suppress(FileNotFoundError):
                path = final(path)
        if is_file or any(part.name.startswith(f"{base}/") for part in parts):
            found.append(_Place(base, path, is_file))
    if not found:
        message = f"no part of {source.name} was a file with a known path"
        raise UsageError(message, hint="restore it to a folder: --to DIR")
    return found


def _look(
    below: Below | None,
    folder: Path,
    name: str,
    part: StoredPart | None,
    member: Member | None,
    found: OriginalState,
    *,
    missing: bool,
) -> None:
    """Compare what is there with what was: kind, link, mode, owner, time, and bytes."""
    called = as_file(name)
    file = folder / called
    there = below.stat(called) if below is not None else None
    if below is None or there is None:
        found.differing.append(Original(file, (MISSING,), part, member))
        return
    if missing:
        found.same += 1
        return
    target = below.target(called) if stat.S_ISLNK(there.st_mode) else None
    how = list(differences(member, there, target)) if member is not None else []
    is_file, now = stat.S_ISREG(there.st_mode), None
    if part is not None and is_file:
        with below.opened(called) as opened:
            if there.st_size != part.size or hashlib.file_digest(opened, "sha256").digest() != part.sha256:
                how.insert(0, "its content differs")
            if how and there.st_size <= LARGE:
                opened.seek(0)
                now = opened.read()
    elif part is not None and not how:
        how.append("it is not a file")
    if not how:
        found.same += 1
        return
    found.differing.append(Original(file, tuple(how), part, member, now))
    if is_file:
        found.unheld += _lost_by_writing(below, called, file, there)


def _like(there: os.stat_result | None) -> Dress | None:
    """Gives a file the owner and mode of the one that it replaces, as a version of a single file has none."""
    if there is None or not stat.S_ISREG(there.st_mode):
        return None
    owner, mode = (there.st_uid, there.st_gid), stat.S_IMODE(there.st_mode)

    def dress(file: int) -> None:
        with suppress(PermissionError):
            os.fchown(file, *owner)
        os.fchmod(file, mode)

    return dress


def _lost_by_writing(below: Below, name: str, file: Path, there: os.stat_result) -> Iterator[str]:
    """What a file that is there has, and one that is written in its place has not."""
    if there.st_nlink > 1:
        yield f"{file} has {there.st_nlink - 1} other names, which keep the present content"
    with suppress(OSError), below.opened(name) as opened:
        held = [one for one in os.listxattr(opened.fileno()) if not one.startswith("security.selinux")]
        if held:
            yield f"{file} has attributes ({', '.join(sorted(held))}), which no version contains"


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
