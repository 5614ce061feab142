"""The machine itself as a source: files, folders, and what commands print. No shell reads anything."""

import asyncio
import os
import shutil
import signal
import stat
from collections.abc import AsyncIterator, Iterator, Sequence
from contextlib import asynccontextmanager, suppress
from pathlib import Path

from historon.collect.failures import CollectError, FailureKind
from historon.collect.transport import CommandSession, Session, Target
from historon.store import Part

__all__ = ["open_local"]

_END_S = 2


@asynccontextmanager
async def open_local(target: Target) -> AsyncIterator[Session]:
    """A session on this machine."""
    yield _LocalSession(target)


class _LocalSession(CommandSession):
    def __init__(self, target: Target) -> None:
        super().__init__(target)
        self._folder = target.folder

    async def say(self, what: str | Sequence[str]) -> bytes:
        """Run a program with its arguments and return what it prints; an exit code other than 0 is a failure."""
        program = self._program(what[0])
        self._tail = b""
        starting = asyncio.ensure_future(
            asyncio.create_subprocess_exec(
                program, *what[1:], cwd=self._folder, stdin=asyncio.subprocess.DEVNULL,
                stdout=asyncio.subprocess.PIPE, stderr=asyncio.subprocess.PIPE, start_new_session=True,
            )
        )  # fmt: skip
        readers: list[asyncio.Task[bytes]] = []
        try:
            # Cancelled in the middle of starting, asyncio would end the program alone and wait for what it started.
            process = await asyncio.shield(starting)
            readers = [asyncio.create_task(self._drain(s.read)) for s in (process.stdout, process.stderr) if s]
            printed, complaints = await asyncio.gather(*readers)
            code = await process.wait()
        finally:
            await _end(await starting, readers)
        if code:
            raise self._ended(program, code, printed, complaints)
        return printed

    def _program(self, name: str) -> str:
        found = shutil.which(name) if "/" not in name else shutil.which(self._folder / name)
        if not found:
            raise CollectError(
                FailureKind.SETUP,
                f"there is no program {name} on this machine",
                hint="write its absolute path; a scheduler's PATH is short",
            )
        return os.path.abspath(found)

    async def pull(self, path: str, name: str | None) -> list[Part]:
        """Read a file, or every file of a folder; links are not followed."""
        return await asyncio.to_thread(self._read, self._folder / Path(path).expanduser(), name)

    def _read(self, path: Path, name: str | None) -> list[Part]:
        try:
            if path.is_dir():
                base = name if name is not None else path.name
                return self._read_tree(path, base)
            return [Part(name or _spoken(path.name), self._read_file(path, self._max_size))]
        except FileNotFoundError as exc:
            hint = "is its disk mounted, and the path right?"
            raise CollectError(FailureKind.STEP, f"there is no {exc.filename}", hint=hint) from exc
        except PermissionError as exc:
            raise CollectError(FailureKind.PERMISSION, f"{exc.filename} may not be read by this user") from exc
        except OSError as exc:
            raise CollectError(FailureKind.STEP, f"{exc.filename or path}: {exc.strerror}") from exc

    def _read_tree(self, root: Path, base: str) -> list[Part]:
        parts, room, left_out = [], int(self._max_size), 0
        for file in _files(root):
            if not stat.S_ISREG(file.lstat().st_mode):
                left_out += 1
                continue
            content = self._read_file(file, room)
            room -= len(content)
            inner = _spoken(str(file.relative_to(root)))
            parts.append(Part(f"{base}/{inner}" if base else inner, content))
        self._leave_out(left_out, base)
        return parts

    def _read_file(self, file: Path, room: int) -> bytes:
        with open(os.open(file, os.O_RDONLY | os.O_NONBLOCK), "rb") as opened:
            if not stat.S_ISREG(os.fstat(opened.fileno()).st_mode):
                raise CollectError(FailureKind.STEP, f"{file} is not a regular file")
            content = opened.read(room + 1)
        if len(content) > room:
            raise CollectError(FailureKind.TOO_LARGE, f"with {file} it exceeds {self._max_size} bytes")
        return content


def _files(root: Path) -> Iterator[Path]:
    """Everything below a folder but the folders, in a stable order. An unreadable one is an error, not an omission."""

    def complain(error: OSError) -> None:
        raise error

    for folder, folders, names in os.walk(root, onerror=complain):
        folders.sort()
        links = [name for name in folders if Path(folder, name).is_symlink()]
        yield from (Path(folder, name) for name in sorted([*names, *links]))


def _spoken(name: str) -> str:
    """A file name as text; bytes that are no UTF-8 are written as escapes."""
    return os.fsencode(name).decode("utf-8", "backslashreplace")


async def _end(process: asyncio.subprocess.Process, readers: Sequence[asyncio.Task[bytes]]) -> None:
    """Leave nothing running: the program and what it started share a session."""
    if process.returncode is None:
        with suppress(ProcessLookupError):
            os.killpg(process.pid, signal.SIGKILL)
    for reader in readers:
        reader.cancel()
    await asyncio.gather(*readers, return_exceptions=True)
    with suppress(TimeoutError):
        async with asyncio.timeout(_END_S):
            await process.communicate()  # reads what is left in the pipes, so that they are closed
