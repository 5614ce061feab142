"""Commands over SSH, each in its channel with an exit code (RFC 4254 section 6.5), and files over SFTP or SCP."""

import asyncio
from collections.abc import AsyncIterator, Sequence
from contextlib import asynccontextmanager
from typing import TYPE_CHECKING, ClassVar, Literal

from historon.collect.failures import CollectError, FailureKind
from historon.collect.transports.interface import TAIL, Answer, Session, Target
from historon.collect.transports.selecting import Choosing, check_sum
from historon.estate import Clauses, Procedure, Pull, Put, Saying
from historon.store import Part

if TYPE_CHECKING:  # asyncssh takes half a second: it is imported where a session begins
    from historon.collect.transports.host_keys import Known
    from historon.collect.transports.ssh import Channels

__all__ = ["SshExec", "open_session"]


class SshExec(Procedure, frozen=True, kw_only=True):
    """`over = "ssh-exec"`: a program a step (RFC 4254 section 6.5), and files by `transfer`."""

    over: ClassVar[str] = "ssh-exec"
    port: ClassVar[int] = 22  # RFC 4253 section 4.2
    over_ssh: ClassVar[bool] = True
    logs_in_at_once: ClassVar[bool] = True
    pulling: ClassVar[type[Clauses] | None] = Choosing
    putting: ClassVar[type[Clauses] | None] = Clauses

    transfer: Literal["sftp", "scp"] = "sftp"


@asynccontextmanager
async def open_session(target: Target[SshExec], known: "Known | None") -> AsyncIterator[Session[SshExec]]:
    """Connect and log in; commands and files then have channels of their own."""
    from historon.collect.transports.ssh import Channels

    async with Channels.over(target, known) as channels:
        yield _ExecSession(target, channels)


class _ExecSession(Session[SshExec]):
    def __init__(self, target: Target[SshExec], channels: "Channels") -> None:
        from historon.collect.transports.ssh_files import SshFiles

        super().__init__(target)
        self._channels = channels
        self._files = SshFiles(self, channels, target.spool)

    async def say(self, what: str, step: Saying[Clauses]) -> Answer:
        """Run a command on the device and return what it prints."""
        return await self._run(what, self.limit(step))

    async def _run(self, what: str, limit: int) -> Answer:
        import asyncssh

        self._tail = b""
        try:
            process = await self._channels.opened(lambda connection: connection.create_process(what, encoding=None))
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
            await self._channels.closed(process)
        if done.exit_signal:
            message = f"the command was ended by signal {done.exit_signal[0]}"
            raise CollectError(FailureKind.STEP, message, tail=complaints[-TAIL:])
        if done.exit_status is None:
            raise self._lost()
        return Answer(printed, complaints, exit_code=done.exit_status)

    def _lost(self) -> CollectError:
        return CollectError(FailureKind.INCOMPLETE, "the connection was lost in the middle of a step", tail=self.tail)

    async def pull(self, path: str, name: str | None, step: Pull[Choosing]) -> Sequence[Part]:
        """Fetch a file, the newest of those that match, or every file of a folder; links are not followed."""
        if self._procedure.transfer == "scp":
            parts = [await self._files.copy(path, name, step)]
        else:
            parts = [*await self._files.fetch(path, name, step)]
        if step.how.checksum and len(parts) == 1:
            told = await self._run(step.how.checksum, self.limit(step))
            if told.exit_code:
                raise CollectError(FailureKind.STEP, f"{step.how.checksum} ended with exit code {told.exit_code}")
            check_sum(parts[0], told.content.decode("utf-8", "replace"), path)
        return parts

    async def put(self, place: str, content: bytes, step: Put[Clauses]) -> Answer:
        """Write a file; over SFTP it takes its name once it is whole, and keeps the mode of the one before."""
        await self._files.write(place, content, over_scp=self._procedure.transfer == "scp")
        return Answer(b"", exit_code=0)

    async def remove(self, place: str) -> None:
        await self._files.remove(place)
