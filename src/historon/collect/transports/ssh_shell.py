"""An interactive command line over SSH (RFC 4254 section 6)."""

from collections.abc import AsyncIterator
from contextlib import asynccontextmanager

import asyncssh

from historon.collect.failures import CollectError, FailureKind
from historon.collect.transports.dialogue import WIDTH, Dialogue
from historon.collect.transports.host_keys import Known
from historon.collect.transports.interface import Session, Target
from historon.collect.transports.ssh import connect
from historon.estate.transports.ssh_shell import SshShell

__all__ = ["open_session"]

_CHUNK = 65536


@asynccontextmanager
async def open_session(target: Target[SshShell], known: Known | None) -> AsyncIterator[Session[SshShell]]:
    """Connect, open a shell and wait for its first prompt."""
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
    def __init__(self, target: Target[SshShell], process: asyncssh.SSHClientProcess[bytes]) -> None:
        super().__init__(target)
        self._process = process

    async def _read(self) -> bytes:
        try:
            return await self._process.stdout.read(_CHUNK)
        except (asyncssh.Error, OSError) as exc:
            raise self._closed() from exc

    def _write(self, data: bytes) -> None:
        try:
            self._process.stdin.write(data)
        except (BrokenPipeError, OSError) as exc:
            raise self._closed() from exc
