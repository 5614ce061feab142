"""Commands over SSH, each in its channel with an exit code (RFC 4254 section 6.5), and files over SFTP or SCP."""

import asyncio
import stat
import tempfile
from collections.abc import AsyncIterator, Awaitable, Callable, Sequence
from contextlib import AsyncExitStack, asynccontextmanager, suppress
from fnmatch import fnmatchcase
from pathlib import Path
from typing import TypeVar

import asyncssh

from historon.collect.failures import CollectError, FailureKind
from historon.collect.transports.host_keys import Known
from historon.collect.transports.interface import TAIL, Answer, Session, Target
from historon.collect.transports.selecting import Chosen, check_sum
from historon.collect.transports.ssh import connect
from historon.estate import Clauses, Pull, Put, Saying
from historon.estate.transports.files import Choosing
from historon.estate.transports.ssh_exec import SshExec
from historon.store import Member, Part, name_of, tree_part_name, written_tree

__all__ = ["open_session"]

_MOST_FILES = 100_000
_READ = 2**18
_CHANNEL_PAUSES_S = (0.1, 0.4, 1.5)  # before a refused channel is asked for again
_CLOSE_S = 5

C = TypeVar("C")
_SFTP_KINDS = {
    asyncssh.SFTPNoSuchFile: (FailureKind.STEP, "there is no {path} on the device", "is the path right?"),
    asyncssh.SFTPPermissionDenied: (FailureKind.PERMISSION, "{path} may not be read by this account", ""),
    asyncssh.SFTPConnectionLost: (FailureKind.INCOMPLETE, "the connection was lost while {path} was read", ""),
}


@asynccontextmanager
async def open_session(target: Target[SshExec], known: Known | None) -> AsyncIterator[Session[SshExec]]:
    """Connect and log in; commands and files then have channels of their own."""
    async with AsyncExitStack() as stack:

        async def connection() -> asyncssh.SSHClientConnection:
            return await stack.enter_async_context(connect(target, known))

        yield _ExecSession(target, await connection(), connection)


class _ExecSession(Session[SshExec]):
    def __init__(
        self,
        target: Target[SshExec],
        connection: asyncssh.SSHClientConnection,
        reconnect: Callable[[], Awaitable[asyncssh.SSHClientConnection]] | None = None,
    ) -> None:
        super().__init__(target)
        self._connection = connection
        self._reconnect = reconnect

    async def say(self, what: str, step: Saying[Clauses]) -> Answer:
        """Run a command on the device and return what it prints."""
        return await self._run(what, self._limit(step))

    async def _run(self, what: str, limit: int) -> Answer:
        self._tail = b""
        try:
            process = await self._channel(lambda: self._connection.create_process(what, encoding=None))
        except asyncssh.ChannelOpenError as exc:
            raise CollectError(FailureKind.PERMISSION, f"the device runs no commands: {exc.reason}") from exc
        except (asyncssh.Error, OSError) as exc:
            raise self._lost() from exc
        readers = [asyncio.create_task(self._drain(one.read, limit)) for one in (process.stdout, process.stderr)]
        try:
            printed, complaints = await asyncio.gather(*readers)
            done = await process.wait()
        except (asyncssh.Error, OSError) as exc:
            raise self._lost() from exc
        finally:
            for reader in readers:
                reader.cancel()
            await asyncio.gather(*readers, return_exceptions=True)
            process.close()
            await self._closed(process)
        if done.exit_signal:
            message = f"the command was ended by signal {done.exit_signal[0]}"
            raise CollectError(FailureKind.STEP, message, tail=complaints[-TAIL:])
        if done.exit_status is None:
            raise self._lost()
        return Answer(printed, complaints, exit_code=done.exit_status)

    async def _channel(self, opening: Callable[[], Awaitable[C]]) -> C:
        """A new channel. A device that allows one at a time may need a moment after the last one was closed."""
        for pause in _CHANNEL_PAUSES_S:
            try:
                return await opening()
            except asyncssh.ChannelOpenError:
                await asyncio.sleep(pause)
        try:
            return await opening()
        except asyncssh.ChannelOpenError:
            if self._reconnect is None:
                raise
            self._connection = await self._reconnect()  # some take one session a connection, and no more
            return await opening()

    async def _closed(self, channel: asyncssh.SSHClientProcess[bytes] | asyncssh.SFTPClient) -> None:
        """Wait until a channel is closed at both ends, if that does not take long."""
        with suppress(TimeoutError, asyncssh.Error, OSError):
            async with asyncio.timeout(_CLOSE_S):
                await channel.wait_closed()

    def _lost(self) -> CollectError:
        return CollectError(FailureKind.INCOMPLETE, "the connection was lost in the middle of a step", tail=self.tail)

    async def pull(self, path: str, name: str | None, step: Pull[Choosing]) -> Sequence[Part]:
        """Fetch a file, the newest of those that match, or every file of a folder; links are not followed."""
        if self._procedure.transfer == "scp":
            parts = [await self._copied(path, name, step)]
        else:
            parts = [*await self._fetched(path, name, step)]
        if step.how.checksum and len(parts) == 1:
            told = await self._run(step.how.checksum, self._limit(step))
            if told.exit_code:
                raise CollectError(FailureKind.STEP, f"{step.how.checksum} ended with exit code {told.exit_code}")
            check_sum(parts[0], told.content.decode("utf-8", "replace"), path)
        return parts

    async def put(self, place: str, content: bytes, step: Put[Clauses]) -> Answer:
        """Write a file; over SFTP it takes its name once it is whole, and keeps the mode of the one before."""
        try:
            if self._procedure.transfer == "scp":
                await self._copy_there(place, content)
                return Answer(b"", exit_code=0)
            sftp = await self._channel(self._sftp)
            try:
                await self._write(sftp, place.encode(), content)
            finally:
                sftp.exit()
                await self._closed(sftp)
        except asyncssh.SFTPPermissionDenied as exc:
            message = f"{place} may not be written by this account"
            raise CollectError(FailureKind.PERMISSION, message) from exc
        except asyncssh.SFTPError as exc:
            raise CollectError(FailureKind.STEP, f"{place} cannot be written: {exc.reason}") from exc
        except (asyncssh.Error, OSError) as exc:
            raise CollectError(FailureKind.STEP, f"{place} cannot be written: {exc}") from exc
        return Answer(b"", exit_code=0)

    async def _write(self, sftp: asyncssh.SFTPClient, path: bytes, content: bytes) -> None:
        coming = path + b".historon.coming"
        mode = None
        with suppress(asyncssh.SFTPNoSuchFile):
            mode = (await sftp.stat(path)).permissions
        await sftp.makedirs(path.rpartition(b"/")[0] or b".", exist_ok=True)
        try:
            async with sftp.open(coming, "wb", asyncssh.SFTPAttrs(permissions=0o600)) as file:
                await file.write(content)
            if mode is not None:
                await sftp.chmod(coming, stat.S_IMODE(mode))
            await sftp.posix_rename(coming, path)
        except asyncssh.SFTPError:
            with suppress(asyncssh.Error, OSError):
                await sftp.remove(coming)
            raise

    async def _copy_there(self, place: str, content: bytes) -> None:
        """The same over SCP, for devices without SFTP: it is written where it is to be."""
        with tempfile.TemporaryDirectory(dir=self._target.spool) as folder:
            file = Path(folder, "copied")
            file.write_bytes(content)
            await asyncssh.scp(str(file), (self._connection, place), block_size=_READ)

    async def _fetched(self, path: str, name: str | None, step: Pull[Choosing]) -> Sequence[Part]:
        try:
            sftp = await self._channel(self._sftp)
            try:
                return await self._fetched_over(sftp, path, name, step)
            finally:
                sftp.exit()
                await self._closed(sftp)
        except asyncssh.SFTPError as exc:
            kind, message, hint = next(
                (words for error, words in _SFTP_KINDS.items() if isinstance(exc, error)),
                (FailureKind.STEP, f"{{path}}: {exc.reason}", ""),
            )
            absent = isinstance(exc, asyncssh.SFTPNoSuchFile)
            # No format(): the device's own words may hold braces.
            raise CollectError(kind, message.replace("{path}", path), hint=hint, absent=absent) from exc
        except (asyncssh.Error, OSError) as exc:
            raise CollectError(FailureKind.STEP, f"the device serves no files: {exc}") from exc

    async def _fetched_over(
        self, sftp: asyncssh.SFTPClient, path: str, name: str | None, step: Pull[Choosing]
    ) -> Sequence[Part]:
        raw = path.encode() if step.newest is None else await self._newest(sftp, path, step.newest)
        base = name if name is not None else name_of(raw.rstrip(b"/").rpartition(b"/")[2])
        if stat.S_ISDIR((await sftp.stat(raw)).permissions or 0):
            return await self._tree(sftp, raw, base, step)
        return [await self._file(sftp, raw, base, self._limit(step), step)]

    async def _sftp(self) -> asyncssh.SFTPClient:
        return await self._connection.start_sftp_client(path_encoding=None)

    async def _newest(self, sftp: asyncssh.SFTPClient, pattern: str, by: str) -> bytes:
        """The newest regular file of a folder whose name matches."""
        folder, _, glob = pattern.rpartition("/")
        found = [
            ((entry.attrs.mtime or 0) if by == "time" else 0, _raw(entry.filename))
            for entry in await sftp.readdir(folder.encode() or b"/" if pattern.startswith("/") else folder or b".")
            if stat.S_ISREG(entry.attrs.permissions or 0) and fnmatchcase(name_of(_raw(entry.filename)), glob)
        ]
        if not found:
            raise CollectError(FailureKind.STEP, f"no file on the device matches {pattern}", absent=True)
        name = max(found)[1]
        return folder.encode() + b"/" + name if folder or pattern.startswith("/") else name

    async def _tree(self, sftp: asyncssh.SFTPClient, root: bytes, base: str, step: Pull[Choosing]) -> Sequence[Part]:
        parts: list[Part] = []
        members: list[Member] = []
        room, waiting, chosen = self._limit(step), [root], Chosen(step)
        while waiting:
            folder = waiting.pop()
            for entry in sorted(await sftp.readdir(folder), key=lambda entry: entry.filename):
                filename, attributes = _raw(entry.filename), entry.attrs
                mode, file = attributes.permissions or 0, folder + b"/" + filename
                if filename in (b".", b".."):
                    continue
                if b"/" in filename or len(members) >= _MOST_FILES:
                    raise CollectError(FailureKind.STEP, f"the device lists impossible files in {folder!r}")
                inner = name_of(file[len(root) :].strip(b"/"))
                if stat.S_ISDIR(mode):
                    waiting.append(file)
                if not chosen.takes(inner, mode):
                    continue
                target = await self._link(sftp, file) if stat.S_ISLNK(mode) else None
                owner = f"{attributes.uid or 0}:{attributes.gid or 0}"
                members.append(Member.of(inner, mode, owner, attributes.mtime or 0, target))
                if stat.S_ISREG(mode):
                    part = await self._file(sftp, file, f"{base}/{inner}" if base else inner, room, step)
                    room -= part.size
                    parts.append(part)
        self.remarks += chosen.remarks(base)
        return [*parts, Part(tree_part_name(base), written_tree(members), is_tree=True)] if members else []

    async def _link(self, sftp: asyncssh.SFTPClient, path: bytes) -> str | None:
        try:
            return name_of(_raw(await sftp.readlink(path)))
        except asyncssh.SFTPError as exc:
            self.remarks.append(f"the device does not tell where {name_of(path)} leads: {exc.reason}")
            return None

    async def _file(self, sftp: asyncssh.SFTPClient, path: bytes, name: str, room: int, step: Pull[Choosing]) -> Part:
        spool = self._spool(step, room)
        async with sftp.open(path, "rb") as file:
            try:
                while data := await file.read(_READ):
                    spool.write(_raw(data))
            except CollectError as exc:
                exc.message = f"with {name_of(path)} it exceeds {self._limit(step)} bytes"
                raise
        with suppress(asyncssh.SFTPError):
            if (size := (await sftp.stat(path)).size) is not None and size != spool.size:
                came = f"{name_of(path)} has {size} bytes, and {spool.size} came"
                raise CollectError(FailureKind.INCOMPLETE, f"{came}: it is still being written, or was cut off")
        return spool.part(name)

    async def _copied(self, path: str, name: str | None, step: Pull[Choosing]) -> Part:
        """One file over SCP, for devices without SFTP."""
        limit, spool = self._limit(step), self._spool(step)

        def watch(_source: bytes, _target: bytes, came: int, total: int) -> None:
            if max(came, total) > limit:
                raise CollectError(FailureKind.TOO_LARGE, f"{path} has more than {limit} bytes")

        with tempfile.TemporaryDirectory(dir=self._target.spool) as folder:
            file = Path(folder, "copied")
            try:
                await asyncssh.scp((self._connection, path), str(file), progress_handler=watch, block_size=_READ)
            except (asyncssh.Error, OSError) as exc:
                reason = getattr(exc, "reason", None) or str(exc)
                absent = "no such file" in reason.lower()
                raise CollectError(FailureKind.STEP, f"{path} cannot be copied: {reason}", absent=absent) from exc
            with file.open("rb") as copied:
                while data := copied.read(_READ):
                    spool.write(data)
        return spool.part(name if name is not None else path.rstrip("/").rpartition("/")[2])


def _raw(name: str | bytes) -> bytes:
    return name if isinstance(name, bytes) else name.encode()
