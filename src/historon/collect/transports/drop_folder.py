"""Exports that arrive by themselves in a folder, pushed by a device that can do nothing else."""

import errno
import hashlib
import json
import os
import re
import secrets
import stat
from collections.abc import AsyncIterator, Iterator, Mapping, Sequence
from contextlib import asynccontextmanager, suppress
from dataclasses import asdict, dataclass
from datetime import UTC, datetime, timedelta
from fnmatch import fnmatchcase
from pathlib import Path
from typing import ClassVar

from historon.base.folders import Below, reached
from historon.base.threads import apart
from historon.collect.failures import CollectError, FailureKind, NotNowError
from historon.collect.transports.completeness import incomplete
from historon.collect.transports.interface import Origin, Session, Target
from historon.collect.transports.selecting import check_sum
from historon.collect.transports.waiting import Arriving, Choice, Seen, choose_next, deliveries, pulls_of
from historon.estate import Clauses, Estate, Pull, describe, fill, values_of, walk
from historon.store import Part

__all__ = ["DropFolder", "Dropped", "open_session", "settle", "strangers"]

_CHUNK = 2**20
_STALLED = timedelta(hours=1)  # without a byte, after which a file that is not complete never will be
_NO_LINKS = (errno.EPERM, errno.ENOTSUP, errno.EOPNOTSUPP, errno.ENOSYS, errno.EMLINK)
_CLAIMED = ".historon-"  # what a file is called while it is put away
_SIGNS = ("renamed", "marker", "checksum", "size", "ends", "format")


class Dropped(Clauses, frozen=True, kw_only=True):
    """When a file is complete, and by what it is checked."""

    filled: ClassVar[tuple[str, ...]] = ("checksum",)
    needed: ClassVar[Mapping[str, str]] = {
        "complete": 'to know when a file is complete (add complete = "renamed" or another sign)'
    }
    complete: str = ""
    checksum: str | None = None

    def __post_init__(self) -> None:
        """A sign that is known."""
        if self.complete and self.complete.partition(":")[0] not in _SIGNS:
            raise ValueError(f'"{self.complete}" is not a sign of completeness (use {", ".join(_SIGNS)})')


class DropFolder(Arriving, frozen=True, kw_only=True):
    """`over = "drop-folder"`: files that arrive in `folder`."""

    over: ClassVar[str] = "drop-folder"
    on_network: ClassVar[bool] = False
    pulling: ClassVar[type[Clauses] | None] = Dropped
    needed: ClassVar[Mapping[str, str]] = {"folder": 'the folder (add folder = "/srv/drop")'}


@dataclass(frozen=True)
class _Arrived:
    """A file that arrived, as it was when it was looked at; `key` is what its name has where the pattern has `*`."""

    name: str
    size: int
    changed_ns: int
    inode: int
    arrived_ns: int = 0
    key: str | None = None

    @property
    def identity(self) -> str:
        """The same for the same file with the same content alone."""
        return json.dumps([self.name, self.size, self.changed_ns, self.inode])

    @property
    def arrived(self) -> datetime:
        """When it came, by this machine's own record where its own time is in the future."""
        return datetime.fromtimestamp(self.arrived_ns / 10**9, UTC)

    def is_still(self, found: os.stat_result) -> bool:
        """Whether a file is this one, untouched."""
        return (self.size, self.changed_ns, self.inode) == (found.st_size, found.st_mtime_ns, found.st_ino)


@asynccontextmanager
async def open_session(target: Target[DropFolder], _known: object = None) -> AsyncIterator[Session[DropFolder]]:
    """A session on the folder that the source's exports arrive in."""
    yield _DropSession(target)


@dataclass(frozen=True)
class _Look:
    """What one pull finds: all that matches, what of it is whole and new, what still arrives, and what never will."""

    pull: Pull[Dropped]
    path: str
    there: Sequence[_Arrived]
    seen: Seen
    whole: Sequence[_Arrived]
    arriving: tuple[_Arrived, str] | None
    never: Sequence[tuple[_Arrived, str]]


class _DropSession(Session[DropFolder]):
    def __init__(self, target: Target[DropFolder]) -> None:
        super().__init__(target)
        self._folder = target.folder / _own_folder(target)
        self._chosen: dict[str, _Arrived | None] = {}

    async def pull(self, path: str, name: str | None, step: Pull[Dropped]) -> Sequence[Part]:
        """Take the oldest complete file that matches and was not taken before.

        Where several steps take files, those that belong together are taken together.
        """
        return await apart(self._target.source.name, self._take, name, step)

    def _take(self, name: str | None, step: Pull[Dropped]) -> Sequence[Part]:
        try:
            if step.says not in self._chosen:
                self._choose(step)
            one = self._chosen[step.says]
            if one is None:
                return self._lacking(step)
            part = self._read(self._folder / one.name, one, name or one.name, step)
        except OSError as exc:
            raise CollectError(FailureKind.SETUP, f"{exc.filename}: {exc.strerror}") from exc
        self.origin = Origin.of(one.name, one.changed_ns / 10**9)
        return [part]

    def _lacking(self, step: Pull[Dropped]) -> Sequence[Part]:
        """Nothing, where the others that belong together are there: a doubt was noted, unless it may be missing."""
        if step.optional:
            raise CollectError(FailureKind.STEP, f"no file {step.says} arrived with the others", absent=True)
        return []

    def _choose(self, step: Pull[Dropped]) -> None:
        """Which files are taken, by all the steps that take any; what is to be remembered and done once they are."""
        pulls = pulls_of(self._target, step)
        looks = [self._look(pull) for pull in pulls]
        waiting = deliveries({look.pull.says: look.whole for look in looks}, self._procedure.together)
        wanted = [pull.says for pull in pulls if not pull.optional]
        choice = choose_next(waiting, wanted, self._procedure, new=all(look.seen.new for look in looks))
        if choice is None:
            raise self._nothing_whole(next(look for look in looks if look.pull.says == step.says))
        self._check_together(choice, [look for look in looks if look.pull.says in wanted])
        self._chosen = {pull.says: choice.one.get(pull.says) for pull in pulls}
        for look in looks:
            gone = [*choice.taken, *(one for one, _ in look.never)]
            self.remembered[f"taken {look.pull.says}"] = look.seen.after(gone, look.there)
        self._tell(choice, looks)

    def _check_together(self, choice: Choice[_Arrived], wanted: Sequence[_Look]) -> None:
        """Wait for what belongs to the others and has not come yet; when it does not come, the export is doubtful."""
        came = [*choice.one.values()]
        for look in wanted:
            if look.pull.says in choice.one:
                continue
            if look.arriving:
                raise self._still_arriving(look)
            since = min(self._still_for(one) for one in came)
            if since < self._procedure.together:
                raise self._nothing(f"{came[0].name} has arrived, but no file {look.path} yet", look.pull)
            within = f"within {self._procedure.together}"
            self.doubts.append(f"no file {look.path} arrived within {within} of {came[0].name}")

    def _tell(self, choice: Choice[_Arrived], looks: Sequence[_Look]) -> None:
        self.waiting = len(choice.later)
        self.made = max(datetime.fromtimestamp(one.changed_ns / 10**9, UTC) for one in choice.one.values())
        if choice.passed:
            put_away = (
                "left in the drop folder" if self._procedure.then == "keep" else ("moved away without being collected")
            )
            older = len(choice.taken) - len(choice.one)
            self.remarks.append(f"{older} older file{'s' * (older > 1)} {put_away}")
        for look in looks:
            if look.arriving:
                self.remarks.append(f"{look.arriving[0].name} is still arriving")
            if look.never:
                self.remarks.append(f"{_names(look.never)} is incomplete and was not collected")
        if self._procedure.then != "keep":
            beside = [
                _companion_of(self._folder, some[look.pull.says], look.pull)
                for look in looks
                for some in (*choice.passed, choice.one)
                if look.pull.says in some
            ]
            files = [asdict(one) for one in (*choice.taken, *filter(None, beside))]
            self.owed = json.dumps(
                {
                    "folder": str(self._folder),
                    "then": self._procedure.then,
                    "move_to": self._procedure.move_to,
                    "files": files,
                }
            )

    def _look(self, pull: Pull[Dropped]) -> _Look:
        """What one step may take. A file that is still arriving lets no later one pass."""
        account = self._target.account
        path = str(fill(pull.says, values_of(self._target.source, self._procedure, account.user if account else "")))
        seen = Seen.parse(self._target.recall(f"taken {pull.says}"))
        there = _matching(self._folder, path)
        whole: list[_Arrived] = []
        arriving: tuple[_Arrived, str] | None = None
        never: list[tuple[_Arrived, str]] = []
        for one in there:
            if seen.knows(one):
                continue
            why = incomplete(self._folder / one.name, pull.how.complete)
            if why is None:
                whole.append(one)
            elif self._still_for(one) < _STALLED:
                arriving = (one, why)
                break
            else:
                never.append((one, why))
        return _Look(pull, path, there, seen, whole, arriving, never)

    def _nothing_whole(self, look: _Look) -> Exception:
        """Why there is nothing to take: it is on its way, it never came whole, or nothing is new."""
        there, never = look.there, look.never
        if not there:
            return self._nothing(f"no file {look.path} in {self._folder}", look.pull)
        if look.arriving:
            return self._still_arriving(look)
        if never and never[-1][0] == there[-1]:
            one, why = never[-1]
            since = describe(self._still_for(one))
            message = f"{one.name} is incomplete and has not grown for {since}: {why}"
            hint = "check how the device uploads it; once it is complete, it is collected"
            return CollectError(FailureKind.INCOMPLETE, message, hint=hint, again=False)
        return self._nothing(f"no new file since {there[-1].name}, which was collected before", look.pull)

    def _still_arriving(self, look: _Look) -> Exception:
        assert look.arriving is not None  # noqa: S101 (that was looked at)
        one, why = look.arriving
        since = describe(self._still_for(one))
        return self._nothing(f"{one.name} is still arriving (its last byte came {since} ago): {why}", look.pull)

    def _still_for(self, one: _Arrived) -> timedelta:
        now = self._target.clock()
        return max(timedelta(), now - datetime.fromtimestamp(one.changed_ns / 10**9, UTC))

    def _nothing(self, message: str, step: Pull[Dropped]) -> Exception:
        if step.optional:
            return CollectError(FailureKind.STEP, message, absent=True)
        return NotNowError(message)

    def _read(self, file: Path, arrived: _Arrived, name: str, step: Pull[Dropped]) -> Part:
        spool = self.spool(step)
        with open(os.open(file, os.O_RDONLY | os.O_NONBLOCK | os.O_NOFOLLOW), "rb") as opened:
            while data := opened.read(_CHUNK):
                spool.write(data)
            found = os.fstat(opened.fileno())
        if not arrived.is_still(found) or spool.size != arrived.size:
            spool.drop()
            raise CollectError(FailureKind.INCOMPLETE, f"{file.name} was written to while it was read", again=False)
        part = spool.part(name)
        if step.how.checksum:
            check_sum(part, step.how.checksum, file.name)
        return part


def _names(files: Sequence[tuple[_Arrived, str]]) -> str:
    more = f" and {len(files) - 1} more" if len(files) > 1 else ""
    return f"{files[-1][0].name}{more}"


def _companion_of(folder: Path, one: _Arrived, step: Pull[Dropped]) -> _Arrived | None:
    """What lies beside a file to announce it, and goes where it goes."""
    sign, _, place = step.how.complete.partition(":")
    if sign not in ("marker", "size", "checksum"):
        return None
    name = (place or "{file}.done").replace("{file}", one.name)
    try:
        state = (folder / name).lstat()
    except OSError:
        return None
    if stat.S_ISREG(state.st_mode):
        return _Arrived(name, state.st_size, state.st_mtime_ns, state.st_ino)
    return None


def _own_folder(target: Target[DropFolder]) -> str:
    account = target.account
    values = values_of(target.source, target.procedure, account.user if account else "")
    return str(fill(target.procedure.folder or "", values))


def _matching(folder: Path, pattern: str) -> list[_Arrived]:
    """The files of this pattern, in the order in which they came.

    That is known by their last change, which a client may have set to what the device's clock says; one in the future
    is known by this machine's own record of its arrival.
    """
    found = []
    for entry in os.scandir(folder):
        if not entry.name.startswith(_CLAIMED) and fnmatchcase(entry.name, pattern):
            with suppress(FileNotFoundError):
                state = entry.stat(follow_symlinks=False)
                if stat.S_ISREG(state.st_mode):
                    arrived = min(state.st_mtime_ns, state.st_ctime_ns)
                    room = _room(pattern, entry.name)
                    one = _Arrived(entry.name, state.st_size, state.st_mtime_ns, state.st_ino, arrived, room)
                    found.append(one)
    return sorted(found, key=lambda one: (one.arrived_ns, one.name))


def _room(pattern: str, name: str) -> str | None:
    """What a name has where its pattern leaves room; None where it leaves none."""
    first = re.search(r"[*?[]", pattern)
    if first is None:
        return None
    last = max(pattern.rfind(sign) for sign in "*?]")
    return name[first.start() : len(name) - (len(pattern) - last - 1)]


# ---- what was taken is put away --------------------------------------------------------------------------------------


def settle(target: Target[DropFolder], owed: str) -> None:
    """Move or remove the files that were taken, as it was owed, and nothing else.

    What was pushed meanwhile under the same name is not touched. Whoever pushes may write to the folder, so no link in
    it is followed. Raises OSError, LinkError when a file cannot be put away.
    """
    told = json.loads(owed)
    with Below(Path(told["folder"])) as below, below.folder_at(".") as folder:
        for written in told["files"]:
            _put_away(below, folder, _Arrived(**written), told["then"], told["move_to"])


def _put_away(below: Below, folder: int, one: _Arrived, then: str, move_to: str) -> None:
    """Take the file out of the way first, then look whether it is the one that was taken, and only then let it go."""
    # A name of its own, so that one that was killed in the middle of this goes on where it was.
    claimed = f"{_CLAIMED}{hashlib.sha256(one.identity.encode()).hexdigest()[:16]}"
    if _state(folder, claimed) is None:
        state = _state(folder, one.name)
        if state is None or not one.is_still(state):
            return
        try:
            os.rename(one.name, claimed, src_dir_fd=folder, dst_dir_fd=folder)
        except FileNotFoundError:
            return
    state = _state(folder, claimed)
    if state is None or not one.is_still(state):
        _give_back(folder, claimed, one.name)
        return
    if then == "remove":
        os.unlink(claimed, dir_fd=folder)
        return
    elsewhere = move_to.startswith("/") or ".." in move_to.split("/")
    place = reached(below.folder / move_to, make=True) if elsewhere else below.folder_at(move_to, make=True)
    with place as taken:
        for number in range(10_000):
            if _renamed(folder, claimed, taken, one.name if not number else f"{one.name}.{number}"):
                return
    _give_back(folder, claimed, one.name)


def _state(folder: int, name: str) -> os.stat_result | None:
    """What has this name in an open folder; None for nothing."""
    try:
        return os.stat(name, dir_fd=folder, follow_symlinks=False)
    except FileNotFoundError:
        return None


def _give_back(folder: int, claimed: str, name: str) -> None:
    """Under its name again, unless a newer one has that by now; then both stay."""
    if not _renamed(folder, claimed, folder, name):
        os.rename(claimed, f"{name}.{secrets.token_hex(3)}", src_dir_fd=folder, dst_dir_fd=folder)


def _renamed(folder: int, file: str, there: int, name: str) -> bool:
    """Rename a file, but never over another one; false when there is one."""
    try:
        os.link(file, name, src_dir_fd=folder, dst_dir_fd=there, follow_symlinks=False)
    except FileExistsError:
        here, other = _state(folder, file), _state(there, name)
        # One that was killed may have come as far as this.
        if here is None or other is None or (here.st_dev, here.st_ino) != (other.st_dev, other.st_ino):
            return False
    except OSError as exc:
        if exc.errno not in _NO_LINKS:
            raise
        if _state(there, name) is not None:  # a file system without links cannot do better
            return False
        os.rename(file, name, src_dir_fd=folder, dst_dir_fd=there)
        return True
    os.unlink(file, dir_fd=folder)
    return True


def strangers(estate: Estate) -> list[str]:
    """Files in drop folders that belong to no source, by path: nobody would ever collect them."""
    found: list[str] = []
    for folder, patterns in _wanted(estate).items():
        if folder.is_dir():
            found += _unwanted(folder, patterns)
    return sorted(found)


def _wanted(estate: Estate) -> dict[Path, list[str]]:
    """By drop folder, the patterns of files that some source takes, and of what lies beside them."""
    wanted: dict[Path, list[str]] = {}
    for source in estate.sources.values():
        procedure = estate.procedure_of(source)
        if not isinstance(procedure, DropFolder):
            continue
        values = values_of(source, procedure)
        folder = estate.path(fill(procedure.folder or "", values))
        for _, step in walk(procedure.steps):
            if isinstance(step, Pull):
                pattern = fill(step.says, values)
                beside = step.how.complete.partition(":")[2] or "{file}.done"
                wanted.setdefault(folder, []).extend([pattern, beside.replace("{file}", pattern)])
    return wanted


def _unwanted(folder: Path, patterns: Sequence[str]) -> Iterator[str]:
    for entry in os.scandir(folder):
        regular = stat.S_ISREG(entry.stat(follow_symlinks=False).st_mode)
        known = entry.name.startswith(".") or any(fnmatchcase(entry.name, pattern) for pattern in patterns)
        if regular and not known:
            yield entry.path
