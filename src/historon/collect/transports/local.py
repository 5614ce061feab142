"""The machine itself as a source: files, folders, and what commands print. No shell reads anything."""

import asyncio
import glob
import os
import shutil
import signal
import stat
from collections.abc import AsyncIterator, Iterator, Mapping, Sequence
from contextlib import asynccontextmanager, suppress
from pathlib import Path
from typing import ClassVar

from historon.base.folders import Below, LinkError, final
from historon.base.quantities import size_text
from historon.base.threads import apart
from historon.collect.failures import CollectError, FailureKind
from historon.collect.newest import newest_file
from historon.collect.transports.interface import Answer, Origin, Session, Target
from historon.collect.transports.selecting import Choosing, Chosen, check_sum
from historon.estate import Clauses, Procedure, Pull, Put, Saying, small_environment, walk
from historon.store import Member, Part, name_of, owner_of, tree_part_name, written_tree

__all__ = ["Local", "Running", "open_session"]

_END_S = 2
_CHUNK = 2**20
_LABEL = "security.selinux"  # which the system gives to any file by its place
_BLOCK = 512  # the unit of st_blocks, stat(2)


class Running(Clauses, frozen=True, kw_only=True):
    """What a program is given as variables of its environment."""

    environment: dict[str, str] = {}

    @property
    def variables(self) -> Mapping[str, str]:
        return self.environment


class Local(Procedure, frozen=True, kw_only=True):
    """`over = "local"`: programs, without a shell, and files."""

    over: ClassVar[str] = "local"
    on_network: ClassVar[bool] = False
    as_list: ClassVar[bool] = True
    asking: ClassVar[type[Clauses] | None] = Running
    pulling: ClassVar[type[Clauses] | None] = Choosing
    putting: ClassVar[type[Clauses] | None] = Clauses

    @property
    def programs(self) -> set[str]:
        steps = (*self.steps, *self.push, *self.push_confirm)
        return {said[0] for _, step in walk(steps) for said in step.sayings if said}


@asynccontextmanager
async def open_session(target: Target[Local], _known: object = None) -> AsyncIterator[Session[Local]]:
    """A session on this machine."""
    yield _LocalSession(target)


class _LocalSession(Session[Local]):
    async def say(self, what: tuple[str, ...], step: Saying[Running]) -> Answer:
        """Run a program with its arguments and return what it prints."""
        program = self._program(what[0])
        self._tail = b""
        starting = asyncio.ensure_future(
            asyncio.create_subprocess_exec(
                program,
                *what[1:],
                cwd=self._target.folder,
                stdin=asyncio.subprocess.DEVNULL,
                stdout=asyncio.subprocess.PIPE,
                stderr=asyncio.subprocess.PIPE,
                start_new_session=True,
                env={**small_environment(), **step.how.environment},
            )
        )
        readers: list[asyncio.Task[bytes]] = []
        try:
            # Cancelled in the middle of starting, asyncio would end the program alone and wait for what it started.
            process = await asyncio.shield(starting)
            limit = self.limit(step)
            readers = [asyncio.create_task(self._drain(s.read, limit)) for s in (process.stdout, process.stderr) if s]
            printed, complaints = await asyncio.gather(*readers)
            code = await process.wait()
        finally:
            await _end(await starting, readers)
        return Answer(printed, complaints, exit_code=code)

    def _program(self, name: str) -> str:
        found = shutil.which(name) if "/" not in name else shutil.which(self._target.folder / name)
        if not found:
            raise CollectError(
                FailureKind.SETUP,
                f"there is no program {name} on this machine",
                hint="write its absolute path; the PATH of a scheduler is short",
            )
        return os.path.abspath(found)

    async def pull(self, path: str, name: str | None, step: Pull[Choosing]) -> Sequence[Part]:
        """Read a file, the newest of those that match, or a folder; links are not followed."""
        return await apart(self._target.source.name, self._read, path, name, step)

    async def put(self, place: str, content: bytes, step: Put[Clauses]) -> Answer:
        """Replace a file in one step; it keeps its owner and its mode."""
        await apart(self._target.source.name, self._write, place, content)
        return Answer(b"", exit_code=0)

    async def remove(self, place: str) -> None:
        await apart(self._target.source.name, self._remove, place)

    def _remove(self, written: str) -> None:
        path = self._target.folder / Path(written).expanduser()
        try:
            with suppress(FileNotFoundError), Below(path.parent) as below:
                below.remove(path.name)
        except LinkError as exc:
            raise CollectError(FailureKind.STEP, exc.message, hint=exc.hint) from exc
        except OSError as exc:
            raise CollectError(FailureKind.STEP, f"{path}: {exc.strerror}") from exc

    def _write(self, written: str, content: bytes) -> None:
        path = self._target.folder / Path(written).expanduser()
        try:
            with Below(path.parent, make=True):
                path = final(path)
            _replace(path, content)
        except LinkError as exc:
            raise CollectError(FailureKind.STEP, exc.message, hint=exc.hint) from exc
        except OSError as exc:
            message = f"{exc.filename or path}: {exc.strerror}"
            raise CollectError(FailureKind.STEP, message, hint="check whether this user can write there") from exc

    def _read(self, written: str, name: str | None, step: Pull[Choosing]) -> Sequence[Part]:
        path = self._target.folder / Path(written).expanduser()
        try:
            if step.newest is not None:
                path = self._newest(path, step.newest)
            if path.is_dir():
                base = name if name is not None else path.name
                parts, newest = self._read_tree(path, base, step)
                self.origin = Origin.of(path.name, newest)
                return parts
            part = self._read_file(path, name or name_of(os.fsencode(path.name)), self.limit(step), step)
            self.origin = Origin.of(path.name, path.stat().st_mtime)
        except FileNotFoundError as exc:
            hint = "check that its disk is mounted, and the path"
            raise CollectError(FailureKind.STEP, f"there is no {exc.filename}", hint=hint, absent=True) from exc
        except PermissionError as exc:
            raise CollectError(FailureKind.PERMISSION, f"this user cannot read {exc.filename}") from exc
        except OSError as exc:
            raise CollectError(FailureKind.STEP, f"{exc.filename or path}: {exc.strerror}") from exc
        if step.how.checksum:
            check_sum(part, step.how.checksum, str(path))
        return [part]

    def _newest(self, pattern: Path, by: str) -> Path:
        """The newest regular file that matches."""
        found = sorted(file for file in map(Path, glob.glob(str(pattern))) if file.is_file())
        if not found:
            raise CollectError(FailureKind.STEP, f"no file matches {pattern}", hint="check the path", absent=True)
        times = [file.stat().st_mtime for file in found]
        at, remark = newest_file([file.name for file in found], times, by, self._target.clock())
        self.remarks += filter(None, [remark])
        return found[at]

    def _read_tree(self, root: Path, base: str, step: Pull[Choosing]) -> tuple[Sequence[Part], float | None]:
        """All that is in a folder, and when the newest file in it was changed, in seconds since 1970."""
        parts: list[Part] = []
        times: list[float] = []
        members: list[Member] = []
        chosen, room, unheld = Chosen(step), self.limit(step), _Unheld()
        for file in _below(root):
            found = file.lstat()
            inner = name_of(os.fsencode(file.relative_to(root)))
            if not chosen.takes(inner, found.st_mode):
                continue
            target = name_of(os.readlink(os.fsencode(file))) if stat.S_ISLNK(found.st_mode) else None
            members.append(Member.of(inner, found.st_mode, owner_of(found), found.st_mtime, target))
            if stat.S_ISREG(found.st_mode):
                part = self._read_file(file, f"{base}/{inner}" if base else inner, room, step)
                room -= part.size
                unheld.look(file, found)
                parts.append(part)
                times.append(found.st_mtime)
        self.remarks += chosen.remarks(base)
        self.remarks += unheld.remarks(base)
        if members:
            parts.append(Part(tree_part_name(base), written_tree(members), is_tree=True))
        return parts, max(times, default=None)

    def _read_file(self, file: Path, name: str, room: int, step: Pull[Choosing]) -> Part:
        spool = self.spool(step, room)
        with open(os.open(file, os.O_RDONLY | os.O_NONBLOCK), "rb") as opened:
            before = os.fstat(opened.fileno())
            if not stat.S_ISREG(before.st_mode):
                raise CollectError(FailureKind.STEP, f"{file} is not a regular file")
            try:
                while data := opened.read(_CHUNK):
                    spool.write(data)
            except CollectError as exc:
                exc.message = f"{file} makes it exceed {size_text(self.limit(step))}"
                raise
            after = os.fstat(opened.fileno())
        if (after.st_size, after.st_mtime_ns) != (before.st_size, before.st_mtime_ns) or after.st_size != spool.size:
            spool.drop()
            raise CollectError(FailureKind.INCOMPLETE, f"{file} was written to while it was read")
        return spool.part(name)


class _Unheld:
    """What files have that no version holds: holes, other names of the same file, attributes and access lists."""

    def __init__(self) -> None:
        self._sparse = self._attributes = self._linked = 0

    def look(self, file: Path, found: os.stat_result) -> None:
        """Count what a file has of these."""
        self._sparse += found.st_blocks * _BLOCK < found.st_size
        self._linked += found.st_nlink > 1
        with suppress(OSError):
            held = [one for one in os.listxattr(file, follow_symlinks=False) if one != _LABEL]
            self._attributes += bool(held)

    def remarks(self, base: str) -> list[str]:
        """In words, for the version's note."""
        told = [
            (self._sparse, "sparse", "stored with their holes filled"),
            (self._linked, "with several names", "each name is stored as a separate file"),
            (self._attributes, "with an access list, capabilities or attributes", "these are not stored"),
        ]
        return [f"{number} {what} in {base}: {how}" for number, what, how in told if number]


def _replace(path: Path, content: bytes) -> None:
    """Give a file new content in one step, with its mode, and its owner where this user may.

    What is coming has one name each time, so that whatever a process left that died is written over.
    """
    with Below(path.parent) as below:
        before = below.stat(path.name)

        def dress(file: int) -> None:
            if before is not None and stat.S_ISREG(before.st_mode):
                with suppress(PermissionError):
                    os.fchown(file, before.st_uid, before.st_gid)
                os.fchmod(file, stat.S_IMODE(before.st_mode))

        below.write(path.name, [content], dress)


def _below(root: Path) -> Iterator[Path]:
    """Everything below a folder, in a stable order. An unreadable one is an error, not an omission."""

    def complain(error: OSError) -> None:
        raise error

    for folder, folders, names in os.walk(root, onerror=complain):
        folders.sort()
        yield from (Path(folder, name) for name in sorted([*names, *folders]))


async def _end(process: "asyncio.subprocess.Process", readers: "Sequence[asyncio.Task[bytes]]") -> None:
    """Leave nothing running: the program and what it started share a session.

    What it left running on purpose, with its output elsewhere, is not touched.
    """
    if process.returncode is None or not all(reader.done() for reader in readers):
        with suppress(ProcessLookupError):
            os.killpg(process.pid, signal.SIGKILL)
    for reader in readers:
        reader.cancel()
    await asyncio.gather(*readers, return_exceptions=True)
    with suppress(TimeoutError):
        async with asyncio.timeout(_END_S):
            await process.communicate()  # reads what is left in the pipes, so that they are closed
    process._transport.close()  # type: ignore[attr-defined]  # where somebody else still holds them, they are let go
