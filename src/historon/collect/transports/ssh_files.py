"""Files of a device, over SFTP or SCP: fetched, and put back."""

import stat
import tempfile
from collections.abc import Sequence
from contextlib import suppress
from datetime import UTC, datetime
from fnmatch import fnmatchcase
from pathlib import Path
from typing import Any

import asyncssh

from historon.base.quantities import size_text
from historon.collect.failures import CollectError, FailureKind
from historon.collect.newest import newest_file
from historon.collect.transports.interface import Origin, Session
from historon.collect.transports.selecting import Choosing, Chosen
from historon.collect.transports.ssh import Channels
from historon.estate import Pull
from historon.store import Member, Part, name_of, tree_part_name, written_tree

__all__ = ["SshFiles"]

_MOST_FILES = 100_000
_READ = 2**18
_SFTP_KINDS = {
    asyncssh.SFTPNoSuchFile: (FailureKind.STEP, "there is no {path} on the device", "check the path"),
    asyncssh.SFTPPermissionDenied: (FailureKind.PERMISSION, "this account cannot read {path}", ""),
    asyncssh.SFTPConnectionLost: (FailureKind.INCOMPLETE, "the connection was lost while {path} was read", ""),
}


class SshFiles:
    """The files of a device, for a session whose steps set the limits; `scratch` is a folder of this machine."""

    def __init__(self, session: Session[Any], channels: Channels, scratch: Path) -> None:
        self._session = session
        self._channels = channels
        self._scratch = scratch

    async def fetch(self, path: str, name: str | None, step: Pull[Choosing]) -> Sequence[Part]:
        """A file, the newest of those that match, or every file of a folder, over SFTP. Raises CollectError."""
        try:
            sftp = await self._channels.opened(_sftp)
            try:
                return await self._fetched_over(sftp, path, name, step)
            finally:
                sftp.exit()
                await self._channels.closed(sftp)
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
        found = await sftp.stat(raw)
        self._session.origin = Origin.of(name_of(raw.rstrip(b"/").rpartition(b"/")[2]), found.mtime)
        if stat.S_ISDIR(found.permissions or 0):
            return await self._tree(sftp, raw, base, step)
        return [await self._file(sftp, raw, base, self._session.limit(step), step)]

    async def _newest(self, sftp: asyncssh.SFTPClient, pattern: str, by: str) -> bytes:
        """The newest regular file of a folder whose name matches."""
        folder, _, glob = pattern.rpartition("/")
        place = folder.encode() or (b"/" if pattern.startswith("/") else b".")
        found: list[tuple[float, bytes]] = []
        for entry in await sftp.readdir(place):
            filename, attributes = _raw(entry.filename), entry.attrs
            if stat.S_ISREG(attributes.permissions or 0) and fnmatchcase(name_of(filename), glob):
                found.append((attributes.mtime or 0, filename))
        if not found:
            raise CollectError(FailureKind.STEP, f"no file on the device matches {pattern}", absent=True)
        found.sort()
        names, times = [name_of(file) for _, file in found], [time for time, _ in found]
        at, remark = newest_file(names, times, by, datetime.now(UTC))
        self._session.remarks += filter(None, [remark])
        name = found[at][1]
        return folder.encode() + b"/" + name if folder or pattern.startswith("/") else name

    async def _tree(self, sftp: asyncssh.SFTPClient, root: bytes, base: str, step: Pull[Choosing]) -> Sequence[Part]:
        parts: list[Part] = []
        members: list[Member] = []
        room, waiting, chosen = self._session.limit(step), [root], Chosen(step)
        while waiting:
            folder = waiting.pop()
            for entry in sorted(await sftp.readdir(folder), key=lambda entry: entry.filename):
                filename, attributes = _raw(entry.filename), entry.attrs
                mode, file = attributes.permissions or 0, folder + b"/" + filename
                if filename in (b".", b".."):
                    continue
                if b"/" in filename or len(members) >= _MOST_FILES:
                    raise CollectError(FailureKind.STEP, f"the device lists impossible file names in {folder!r}")
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
        self._session.remarks += chosen.remarks(base)
        times = [member.at for member in members if stat.S_ISREG(member.mode)]
        self._session.origin = Origin(base, max(times, default=None))
        if members:
            return [*parts, Part(tree_part_name(base), written_tree(members), is_tree=True)]
        return []

    async def _link(self, sftp: asyncssh.SFTPClient, path: bytes) -> str | None:
        try:
            return name_of(_raw(await sftp.readlink(path)))
        except asyncssh.SFTPError as exc:
            self._session.remarks.append(f"the device does not report the target of {name_of(path)}: {exc.reason}")
            return None

    async def _file(self, sftp: asyncssh.SFTPClient, path: bytes, name: str, room: int, step: Pull[Choosing]) -> Part:
        spool = self._session.spool(step, room)
        async with sftp.open(path, "rb") as file:
            try:
                while data := await file.read(_READ):
                    spool.write(_raw(data))
            except CollectError as exc:
                exc.message = f"{name_of(path)} makes it exceed {size_text(self._session.limit(step))}"
                raise
        with suppress(asyncssh.SFTPError):
            size = (await sftp.stat(path)).size
            if size is not None and size != spool.size:
                came = f"{name_of(path)} has {size} bytes, and {spool.size} came"
                raise CollectError(FailureKind.INCOMPLETE, f"{came}: it is still being written, or was cut off")
        return spool.part(name)

    async def copy(self, path: str, name: str | None, step: Pull[Choosing]) -> Part:
        """One file over SCP, for devices without SFTP. Raises CollectError."""
        limit, spool = self._session.limit(step), self._session.spool(step)

        def watch(_source: bytes, _target: bytes, came: int, total: int) -> None:
            if max(came, total) > limit:
                raise CollectError(FailureKind.TOO_LARGE, f"{path} exceeds {size_text(limit)}")

        with tempfile.TemporaryDirectory(dir=self._scratch) as folder:
            file = Path(folder, "copied")
            try:
                await self._channels.opened(
                    lambda connection: asyncssh.scp(
                        (connection, path), str(file), preserve=True, progress_handler=watch, block_size=_READ
                    )
                )
            except (asyncssh.Error, OSError) as exc:
                reason = getattr(exc, "reason", None) or str(exc)
                absent = "no such file" in reason.lower()
                raise CollectError(FailureKind.STEP, f"{path} cannot be copied: {reason}", absent=absent) from exc
            self._session.origin = Origin.of(path.rstrip("/").rpartition("/")[2], file.stat().st_mtime)
            with file.open("rb") as copied:
                while data := copied.read(_READ):
                    spool.write(data)
        return spool.part(name if name is not None else path.rstrip("/").rpartition("/")[2])

    async def write(self, place: str, content: bytes, *, over_scp: bool) -> None:
        """Write a file; over SFTP it takes its name once it is whole, and keeps the mode of the one before.

        Raises CollectError.
        """
        try:
            if over_scp:
                await self._copy_there(place, content)
                return
            sftp = await self._channels.opened(_sftp)
            try:
                await self._write(sftp, place.encode(), content)
            finally:
                sftp.exit()
                await self._channels.closed(sftp)
        except asyncssh.SFTPPermissionDenied as exc:
            message = f"this account cannot write {place}"
            raise CollectError(FailureKind.PERMISSION, message) from exc
        except asyncssh.SFTPError as exc:
            raise CollectError(FailureKind.STEP, f"{place} cannot be written: {exc.reason}") from exc
        except (asyncssh.Error, OSError) as exc:
            raise CollectError(FailureKind.STEP, f"{place} cannot be written: {exc}") from exc

    async def remove(self, place: str) -> None:
        """Remove a file, over SFTP; one that is not there is no failure. Raises CollectError."""
        try:
            sftp = await self._channels.opened(_sftp)
            try:
                with suppress(asyncssh.SFTPNoSuchFile):
                    await sftp.remove(place.encode())
            finally:
                sftp.exit()
                await self._channels.closed(sftp)
        except (asyncssh.Error, OSError) as exc:
            raise CollectError(FailureKind.STEP, f"{place} cannot be removed: {exc}") from exc

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
        with tempfile.TemporaryDirectory(dir=self._scratch) as folder:
            file = Path(folder, "copied")
            file.write_bytes(content)
            await self._channels.opened(
                lambda connection: asyncssh.scp(str(file), (connection, place), block_size=_READ)
            )


async def _sftp(connection: asyncssh.SSHClientConnection) -> asyncssh.SFTPClient:
    return await connection.start_sftp_client(path_encoding=None)


def _raw(name: str | bytes) -> bytes:
    return name if isinstance(name, bytes) else name.encode()
