"""A folder of another machine, over SFTP (draft-ietf-secsh-filexfer-02): what copies do there, one thing at a time.

The server is known by its host key. A connection serves one update or verification, in a thread of its own.
"""

import asyncio
import hashlib
import os
import socket
import stat
import threading
from collections.abc import Coroutine, Iterable, Iterator, Mapping, Sequence
from contextlib import contextmanager, suppress
from pathlib import PurePosixPath
from types import TracebackType
from typing import Any, Self, TypeVar

import asyncssh

from historon.base.errors import OutsideError, StoreError
from historon.copies.here import Folder
from historon.copies.objects import HEAD, ConflictError, Objects
from historon.copies.places import Pace
from historon.estate import Estate, FarCopy

__all__ = ["SftpFolder", "SftpObjects"]

T = TypeVar("T")
_PIECE = 2**18
_AT_ONCE = 32  # folders that are listed at the same time
_CONNECT_S = 30
_SILENT_S = 60  # after which a server that says nothing is taken to be gone
_COMING = ".historon.coming"  # the file that is being written, until it takes its name
_HEAD_LOCK = "head.lock"
_STALE_S = 600  # after which a lock is that of an update that died
_HOST_KEYS = (
    ["ssh-ed25519"],
    ["ecdsa-sha2-nistp256", "ecdsa-sha2-nistp384", "ecdsa-sha2-nistp521"],
    ["rsa-sha2-512", "rsa-sha2-256"],
)


class _AbsentError(Exception):
    """There is no such file."""


class _OneKey(asyncssh.SSHClient):
    """Lets in the server with this key alone, whatever else it is called."""

    def __init__(self, wanted: str) -> None:
        self._wanted = wanted.rstrip("=")
        self.shown = ""

    def validate_host_public_key(self, host: str, addr: str, port: int, key: asyncssh.SSHKey) -> bool:
        """See asyncssh."""
        self.shown = key.get_fingerprint()
        return self.shown.rstrip("=") == self._wanted


class SftpFolder(Folder):
    """The folder of a copy on a server."""

    def __init__(self, copy: FarCopy, estate: Estate, *, writes: bool) -> None:
        """Where it `writes`, the folder is made, and what an update left that died is removed."""
        self._writes = writes
        self.place = copy.place
        self._copy = copy
        self._estate = estate
        self._pace = Pace(copy.bandwidth)
        self._root = PurePosixPath(copy.path)
        self._made: set[PurePosixPath] = set()  # folders that are there, with no link on the way
        self._loop = asyncio.new_event_loop()
        self._thread = threading.Thread(target=self._loop.run_forever, name=f"copy {copy.place}", daemon=True)
        self._connection: asyncssh.SSHClientConnection | None = None
        self._sftp: asyncssh.SFTPClient

    def __enter__(self) -> Self:
        self._thread.start()
        try:
            self._run(self._connect(), "connect")
        except BaseException:
            self.close()
            raise
        return self

    def __exit__(self, *_: type[BaseException] | BaseException | TracebackType | None) -> None:
        self.close()

    def close(self) -> None:
        """End the connection, and the thread that it lives in."""
        if self._connection is not None:
            with suppress(StoreError):
                self._run(self._disconnect(self._connection), "disconnect")
        self._loop.call_soon_threadsafe(self._loop.stop)
        self._thread.join(_CONNECT_S)
        if not self._thread.is_alive():
            self._loop.close()

    # ---- files -------------------------------------------------------------------------------------------------------

    def files(self, below: str = "") -> dict[str, int]:
        """The files below the folder, or below one in it, with their sizes; to none of them a link leads."""
        return self._run(self._files(PurePosixPath(below)), "list the folder", limit_s=None)

    def read(self, name: str) -> Iterator[bytes]:
        file = self._run(self._opened(name), f"read {name}")
        try:
            while piece := self._run(_next_of(file), f"read {name}"):
                yield piece
        finally:
            with suppress(StoreError):
                self._run(_closing(file), f"read {name}")

    def put(self, name: str, pieces: Iterable[bytes]) -> None:
        file = self._run(self._begun(name, _COMING), f"write {name}")
        try:
            for piece in pieces:
                for at in range(0, len(piece), _PIECE):
                    self._run(self._write(file, piece[at : at + _PIECE]), f"write {name}", limit_s=None)
            self._run(self._ended(file, name, _COMING), f"write {name}")
        except BaseException:
            with suppress(StoreError, OutsideError):
                self._run(_closing(file), f"write {name}")
            raise

    def link(self, there: str, name: str) -> bool:
        """Give a file a second name; False where it is simply written again, as over a line that is no dearer."""
        return False

    def settle(self) -> None:
        """Nothing: SFTP has no way to ask it of folders."""

    def obstacle(self, name: str) -> str:
        return self._run(self._obstacle(name), f"look at {name}")

    def remove(self, name: str) -> None:
        self._run(self._remove(name), f"remove {name}")

    # ---- what it takes -----------------------------------------------------------------------------------------------

    def _run(self, work: Coroutine[Any, Any, T], what: str, *, limit_s: float | None = _SILENT_S) -> T:
        """Do one thing, within a time; without a limit where each step of it has its own."""
        if self._loop.is_closed():  # a file that was being read is let go of after the connection was
            work.close()
            raise StoreError(f"{self.place}: cannot {what}: the connection is closed")
        with self._told_of(what):
            return asyncio.run_coroutine_threadsafe(asyncio.wait_for(work, limit_s), self._loop).result()

    @contextmanager
    def _told_of(self, what: str) -> Iterator[None]:
        hint = "check the server and its free space. The update resumes where it stopped"
        try:
            yield
        except _AbsentError:
            raise FileNotFoundError(f"{self.place}: cannot {what}: it is missing") from None
        except asyncssh.SFTPPermissionDenied as exc:
            raise OutsideError(
                f"{self.place}: may not {what}: {exc.reason}", hint="check the permissions of the account there"
            ) from exc
        except (asyncssh.Error, OSError, TimeoutError) as exc:
            why = getattr(exc, "reason", None) or str(exc) or "it does not answer"
            if isinstance(exc, OSError) and exc.errno:
                why = os.strerror(exc.errno)
            raise StoreError(f"{self.place}: cannot {what}: {why}", hint=hint) from exc

    async def _connect(self) -> None:
        copy = self._copy
        account = self._estate.credentials[copy.credentials or ""]
        folder = self._estate.folder
        options: dict[str, Any] = {"client_keys": None, "password": None}
        if account.password:
            options["password"] = account.password.resolve(folder).reveal()
        if account.key:
            passphrase = account.passphrase.resolve(folder).reveal() if account.passphrase else None
            options["client_keys"] = [asyncssh.import_private_key(account.key.resolve(folder).reveal(), passphrase)]
        self._connection = await self._known_server(account.user, options)
        self._sftp = await self._connection.start_sftp_client()
        if self._writes:
            await self._sftp.makedirs(self._path(""), exist_ok=True)
            for name in await self._sftp.listdir(self._path("")):
                if str(name).startswith(_COMING):
                    await self._sftp.remove(self._path(str(name)))

    async def _known_server(self, user: str, options: Mapping[str, Any]) -> asyncssh.SSHClientConnection:
        """A connection to the server that has this host key, and that lets the account in."""
        copy = self._copy
        shown: list[str] = []
        for kinds in _HOST_KEYS:  # a server has several, and shows one of those that it is asked for
            client = _OneKey(copy.host_key or "")
            try:
                made, _ = await asyncssh.create_connection(
                    lambda client=client: client,  # type: ignore[misc]
                    copy.server or "",
                    copy.port,
                    username=user,
                    known_hosts=b"",
                    config=None,
                    agent_path=None,
                    connect_timeout=_CONNECT_S,
                    keepalive_interval=15,
                    keepalive_count_max=3,
                    server_host_key_algs=kinds,
                    **options,
                )
                return made
            except asyncssh.HostKeyNotVerifiable:
                shown.append(client.shown)
            except (asyncssh.KeyExchangeFailed, asyncssh.ConnectionLost, ConnectionError):
                if kinds is _HOST_KEYS[-1] and not shown:
                    raise  # else it has none of this kind
            except asyncssh.PermissionDenied as exc:
                raise OutsideError(f"{self.place}: refused the log-in: {exc.reason}", hint="log in by hand") from exc
        keys = " or ".join(shown) or "of another kind"
        message = f"{self.place}: its host key is {keys}, not the one of the estate file"
        raise OutsideError(message, hint="was the server installed again? Compare the key at its console")

    async def _disconnect(self, connection: asyncssh.SSHClientConnection) -> None:
        connection.abort()
        await connection.wait_closed()

    def _path(self, name: str) -> str:
        return str(self._root / name)

    async def _files(self, below: PurePosixPath) -> dict[str, int]:
        """Folder by folder, those beside one another at the same time."""
        found: dict[str, int] = {}
        waiting = [below]
        while waiting:
            folders, waiting = waiting[:_AT_ONCE], waiting[_AT_ONCE:]
            for folder, entries in zip(folders, await asyncio.gather(*map(self._entries, folders)), strict=True):
                for name, attrs in entries:
                    if stat.S_ISDIR(attrs.permissions or 0):
                        waiting.append(folder / name)
                    elif stat.S_ISREG(attrs.permissions or 0):
                        found[str(folder / name)] = attrs.size or 0
        return found

    async def _entries(self, folder: PurePosixPath) -> list[tuple[str, asyncssh.SFTPAttrs]]:
        try:
            entries = await asyncio.wait_for(self._sftp.readdir(self._path(str(folder))), _SILENT_S)
        except asyncssh.SFTPNoSuchFile:
            return []
        return [(str(one.filename), one.attrs) for one in entries if one.filename not in (".", "..")]

    async def _opened(self, name: str) -> "asyncssh.SFTPClientFile":
        try:
            return await self._sftp.open(self._path(name), "rb")
        except asyncssh.SFTPNoSuchFile as exc:
            raise _AbsentError from exc

    async def _begun(self, name: str, coming: str) -> "asyncssh.SFTPClientFile":
        folder = PurePosixPath(name).parent
        if str(folder) != "." and folder not in self._made:
            await self._make_folders(folder)
            self._made.add(folder)
        attrs = asyncssh.SFTPAttrs(permissions=0o600)
        try:
            return await self._sftp.open(self._path(coming), "xb", attrs)
        except asyncssh.SFTPError:  # of an update that died
            await self._sftp.remove(self._path(coming))
            return await self._sftp.open(self._path(coming), "xb", attrs)

    async def _make_folders(self, folder: PurePosixPath) -> None:
        """Folders below the copy's own; none is made, or gone through, by way of a link."""
        at = PurePosixPath()
        for part in folder.parts:
            at /= part
            try:
                attrs = await self._sftp.lstat(self._path(str(at)))
            except asyncssh.SFTPNoSuchFile:
                await self._sftp.mkdir(self._path(str(at)), asyncssh.SFTPAttrs(permissions=0o700))
                continue
            if not stat.S_ISDIR(attrs.permissions or 0):
                raise OutsideError(f"{self.place}: {at} is not a folder, and is not Historon's", hint="move it away")

    async def _write(self, file: "asyncssh.SFTPClientFile", piece: bytes) -> None:
        await asyncio.wait_for(file.write(piece), _SILENT_S)
        wait = self._pace.due_in(len(piece))
        if wait:
            await asyncio.sleep(wait)

    async def _ended(self, file: "asyncssh.SFTPClientFile", name: str, coming: str) -> None:
        with suppress(asyncssh.SFTPOpUnsupported):
            await file.fsync()
        await file.close()
        await self._sftp.posix_rename(self._path(coming), self._path(name))

    async def _obstacle(self, name: str) -> str:
        at = PurePosixPath()
        for part in PurePosixPath(name).parts:
            at /= part
            try:
                attrs = await self._sftp.lstat(self._path(str(at)))
            except asyncssh.SFTPNoSuchFile:
                return ""
            if stat.S_ISLNK(attrs.permissions or 0):
                return f"{self.place}/{at} is a link"
        return f"{self.place}/{at} already exists"

    async def _remove(self, name: str) -> None:
        await self._sftp.remove(self._path(name))
        for folder in PurePosixPath(name).parents:
            if str(folder) == ".":
                return
            try:
                await self._sftp.rmdir(self._path(str(folder)))
            except asyncssh.SFTPError:
                return  # something else is in it

    # ---- the head of objects -----------------------------------------------------------------------------------------

    async def _locked(self) -> None:
        """Make the lock; one that an update left that died is taken over."""
        lock = self._path(_HEAD_LOCK)
        words = f"{socket.gethostname()} {os.getpid()}\n".encode()
        try:
            await self._make_lock(lock, words)
            return
        except asyncssh.SFTPError:
            made = (await self._sftp.stat(lock)).mtime or 0
        await self._make_lock(f"{lock}.now", words)
        now = (await self._sftp.stat(f"{lock}.now")).mtime or 0
        await self._sftp.remove(f"{lock}.now")
        if now - made < _STALE_S:
            raise ConflictError(self.place, "is updating this copy")
        await self._sftp.remove(lock)
        await self._make_lock(lock, words)

    async def _make_lock(self, lock: str, words: bytes) -> None:
        async with self._sftp.open(lock, "xb") as file:
            await file.write(words)

    async def _unlock(self) -> None:
        await self._sftp.remove(self._path(_HEAD_LOCK))


class SftpObjects(SftpFolder, Objects):
    """Objects in such a folder; those of one kind lie in folders by the first letters of their names."""

    def names(self, prefix: str) -> dict[str, int]:
        found = self.files(prefix.rstrip("/"))
        return {prefix + name.rpartition("/")[2]: size for name, size in found.items()}

    def read(self, name: str) -> Iterator[bytes]:
        try:
            yield from super().read(_sharded(name))
        except FileNotFoundError as exc:
            raise StoreError(str(exc), hint="historon copies --verify") from exc

    def write(self, objects: Sequence[tuple[str, Iterable[bytes]]]) -> None:
        small = [(_sharded(name), b"".join(content)) for name, content in objects if isinstance(content, list)]
        if small:
            self._run(self._write_small(small), f"write {small[0][0]}", limit_s=None)
        for name, content in objects:
            if not isinstance(content, list):
                self.put(_sharded(name), content)

    async def _write_small(self, objects: Sequence[tuple[str, bytes]]) -> None:
        """Those that are held in memory, at the same time."""
        for folder in {PurePosixPath(name).parent for name, _ in objects} - self._made:
            await self._make_folders(folder)
            self._made.add(folder)
        await asyncio.gather(*(self._write_one(number, *one) for number, one in enumerate(objects)))

    async def _write_one(self, number: int, name: str, content: bytes) -> None:
        coming = f"{_COMING}-{number}"
        file = await asyncio.wait_for(self._begun(name, coming), _SILENT_S)
        for at in range(0, len(content), _PIECE):
            await self._write(file, content[at : at + _PIECE])
        await asyncio.wait_for(self._ended(file, name, coming), _SILENT_S)

    def head(self) -> tuple[bytes, str] | None:
        try:
            content = b"".join(super().read(HEAD))
        except FileNotFoundError:
            return None
        return content, hashlib.sha256(content).hexdigest()

    def replace_head(self, content: bytes, mark: str | None) -> None:
        """See Objects: under a lock, as SFTP has no conditions."""
        self._run(self._locked(), "lock the head")
        try:
            found = self.head()
            if (found[1] if found else None) != mark:
                raise ConflictError(self.place, "updated this copy at the same time")
            self.put(HEAD, [content])
        finally:
            with suppress(StoreError, OSError):
                self._run(self._unlock(), "unlock the head")

    def remove(self, names: Sequence[str]) -> None:
        for name in names:
            with suppress(OutsideError, FileNotFoundError):
                super().remove(_sharded(name))


def _sharded(name: str) -> str:
    prefix, _, rest = name.partition("/")
    return f"{prefix}/{rest[:2]}/{rest}"


async def _next_of(file: "asyncssh.SFTPClientFile") -> bytes:
    piece: bytes = await file.read(_PIECE)
    return piece


async def _closing(file: "asyncssh.SFTPClientFile") -> None:
    await file.close()
