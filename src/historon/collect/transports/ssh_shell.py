"""An interactive command line over SSH (RFC 4254 section 6)."""

from collections.abc import AsyncIterator
from contextlib import asynccontextmanager
from typing import TYPE_CHECKING, ClassVar

from historon.collect.failures import CollectError, FailureKind
from historon.collect.transports.dialogue import WIDTH, Dialogue, Terminal
from historon.collect.transports.interface import Session, Target

if TYPE_CHECKING:  # asyncssh takes half a second: it is imported where a session begins
    import asyncssh

    from historon.collect.transports.host_keys import Known

__all__ = ["SshShell", "open_session"]

_CHUNK = 65536


class SshShell(Terminal, frozen=True, kw_only=True):
    """`over = "ssh-shell"`: a shell on a terminal (RFC 4254 section 6.5)."""

    over: ClassVar[str] = "ssh-shell"
    port: ClassVar[int] = 22  # RFC 4253 section 4.2
    over_ssh: ClassVar[bool] = True


@asynccontextmanager
async def open_session(target: Target[SshShell], known: "Known | None") -> AsyncIterator[Session[SshShell]]:
    """Connect, open a shell and wait for its first prompt."""
    import asyncssh

    from historon.collect.transports.ssh import connect

    async with connect(target, known) as connection:
        try:
            process = await connection.create_process(
                term_type="dumb", term_size=(WIDTH, 0), encoding=None, stderr=asyncssh.STDOUT
            )
        except asyncssh.Error as exc:
            raise CollectError(FailureKind.PERMISSION, f"the device opens no command line: {exc.reason}") from exc
        session = _ShellSession(target, process)
        await session.greet()
        yield session


class _ShellSession(Dialogue[SshShell]):
    def __init__(self, target: Target[SshShell], process: "asyncssh.SSHClientProcess[bytes]") -> None:
        super().__init__(target)
        self._process = process

    async def _read(self) -> bytes:
        import asyncssh

        try:
            return await self._process.stdout.read(_CHUNK)
        except (asyncssh.Error, OSError) as exc:
            raise self._closed() from exc

    def _write(self, data: bytes) -> None:
        try:
            self._process.stdin.write(data)
        except (BrokenPipeError, OSError) as exc:
            raise self._closed() from exc
