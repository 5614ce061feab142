"""Commands over SSH, each in a channel of its own with an exit code (RFC 4254 section 6.5), and files over SFTP."""

import asyncio
import stat
from collections.abc import AsyncIterator, Sequence
from contextlib import asynccontextmanager, suppress

import asyncssh

from historon.collect.failures import CollectError, FailureKind
from historon.collect.host_keys import Known
from historon.collect.ssh import connect
from historon.collect.transport import CommandSession, Session, Target
from historon.store import Part

__all__ = ["open_exec"]

_TAIL = 2000
_MOST_FILES = 100_000
_SFTP_KINDS = {
    asyncssh.SFTPNoSuchFile: (FailureKind.STEP, "there is no {path} on the device", "is the path right?"),
    asyncssh.SFTPPermissionDenied: (FailureKind.PERMISSION, "{path} may not be read by this account", ""),
    asyncssh.SFTPConnectionLost: (FailureKind.INCOMPLETE, "the connection was lost while {path} was read", ""),
}


@asynccontextmanager
async def open_exec(target: Target, known: Known | None) -> AsyncIterator[Session]:
    """Connect and log in; commands and files then have channels of their own."""
    async with connect(target, known) as connection:
        yield _ExecSession(connection, target)


class _ExecSession(CommandSession):
    def __init__(self, connection: asyncssh.SSHClientConnection, target: Target) -> None:
        super().__init__(target)
        self._connection = connection

    async def say(self, what: str | Sequence[str]) -> bytes:
        """Run a command on the device and return what it prints; an exit code other than 0 is a failure."""
        assert isinstance(what, str)  # noqa: S101 (checked when the estate file is read)
        self._tail = b""
        try:
            process = await self._connection.create_process(what, encoding=None)
        except asyncssh.ChannelOpenError as exc:
            raise CollectError(FailureKind.PERMISSION, f"the device runs no commands: {exc.reason}") from exc
        except (asyncssh.Error, OSError) as exc:
            raise self._lost() from exc
        readers = [asyncio.create_task(self._drain(stream.read)) for stream in (process.stdout, process.stderr)]
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
        if done.exit_signal:
            message = f"the command was ended by signal {done.exit_signal[0]}"
            raise CollectError(FailureKind.STEP, message, tail=complaints[-_TAIL:])
        if done.exit_status is None:
            raise self._lost()
        if done.exit_status:
            raise self._ended("the command", done.exit_status, printed, complaints)
        return printed

    def _lost(self) -> CollectError:
        return CollectError(FailureKind.INCOMPLETE, "the connection was lost in the middle of a step", tail=self.tail)

    async def pull(self, path: str, name: str | None) -> list[Part]:
        """Fetch a file, or every file of a folder, over SFTP; links are not followed."""
        raw = path.encode()
        try:
            async with self._connection.start_sftp_client(path_encoding=None) as sftp:
                base = name if name is not None else path.rstrip("/").rpartition("/")[2]
                if stat.S_ISDIR((await sftp.stat(raw)).permissions or 0):
                    return await self._tree(sftp, raw, base)
                return [Part(base, await self._file(sftp, raw, int(self._max_size)))]
        except asyncssh.SFTPError as exc:
            kind, message, hint = next(
                (words for error, words in _SFTP_KINDS.items() if isinstance(exc, error)),
                (FailureKind.STEP, f"{{path}}: {exc.reason}", ""),
            )
            # No format(): the device's own words may hold braces.
            raise CollectError(kind, message.replace("{path}", path), hint=hint) from exc
        except (asyncssh.Error, OSError) as exc:
            raise CollectError(FailureKind.STEP, f"the device serves no files: {exc}") from exc

    async def _tree(self, sftp: asyncssh.SFTPClient, root: bytes, base: str) -> list[Part]:
        parts: list[Part] = []
        room, waiting, left_out = int(self._max_size), [root], 0
        while waiting:
            folder = waiting.pop()
            for entry in sorted(await sftp.readdir(folder), key=lambda entry: entry.filename):
                filename = entry.filename if isinstance(entry.filename, bytes) else entry.filename.encode()
                mode, file = entry.attrs.permissions or 0, folder + b"/" + filename
                if filename in (b".", b".."):
                    continue
                if b"/" in filename or len(parts) >= _MOST_FILES:
                    raise CollectError(FailureKind.STEP, f"the device lists impossible files in {folder!r}")
                if stat.S_ISDIR(mode):
                    waiting.append(file)
                elif stat.S_ISREG(mode):
                    content = await self._file(sftp, file, room)
                    room -= len(content)
                    inner = file[len(root) :].strip(b"/").decode("utf-8", "backslashreplace")
                    parts.append(Part(f"{base}/{inner}" if base else inner, content))
                else:
                    left_out += 1
        self._leave_out(left_out, base)
        return parts

    async def _file(self, sftp: asyncssh.SFTPClient, path: bytes, room: int) -> bytes:
        async with sftp.open(path, "rb") as file:
            content = await file.read(room + 1)
        made = content if isinstance(content, bytes) else content.encode()
        if len(made) > room:
            shown = path.decode("utf-8", "backslashreplace")
            raise CollectError(FailureKind.TOO_LARGE, f"with {shown} it exceeds {self._max_size} bytes")
        with suppress(asyncssh.SFTPError):
            if (size := (await sftp.stat(path)).size) is not None and size != len(made):
                shown = path.decode("utf-8", "backslashreplace")
                message = f"{shown} has {size} bytes, and {len(made)} came: it is still being written, or was cut off"
                raise CollectError(FailureKind.INCOMPLETE, message)
        return made
