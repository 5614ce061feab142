"""A Capstan router: an interactive command line over SSH, with a banner, echo, paging and a clock line.

Made up. It takes `screen lines off`, `display config active`, `display clock` and `exit`.
"""

import asyncio
from collections.abc import AsyncIterator, Callable
from enum import StrEnum

import asyncssh

from historon.standins.device import SshDevice

__all__ = ["Capstan", "Fault"]

_PAGE = 24
_MORE = b"-- more --"


class Fault(StrEnum):
    """What a device can be made to do wrong."""

    MUTE = "never answers a command"
    ENDLESS = "answers for ever"
    CLOSES = "closes the connection in the middle of the configuration"
    HALF = "sends half of the configuration, and then its prompt"
    ESCAPES = "puts terminal escapes into the configuration"
    SLOW = "sends the configuration in small pieces"
    REFUSES = "does not know the command"


class Capstan(SshDevice):
    """One router. `config` is asked for its configuration each time; `fault` may be set at any time."""

    def __init__(self, name: str, config: Callable[[], str], *, authorized: asyncssh.SSHKey | None = None) -> None:
        super().__init__(name, authorized)
        self.fault: Fault | None = None
        self.sessions_with_fault: int | None = None  # after so many sessions the fault mends itself; None: never
        self._config = config

    @property
    def prompt(self) -> bytes:
        """What stands at the end when the router waits."""
        return f"{self.name}# ".encode()

    async def _session(self, process: asyncssh.SSHServerProcess[bytes]) -> None:
        if self.sessions_with_fault is not None:
            self.fault = self.fault if self.sessions_with_fault > 0 else None
            self.sessions_with_fault -= 1
        try:
            await _Conversation(self, process, self._config).run()
        except (asyncssh.Error, OSError, EOFError):
            pass  # the client has gone
        finally:
            process.close()


class _Conversation:
    def __init__(self, device: Capstan, process: asyncssh.SSHServerProcess[bytes], config: Callable[[], str]) -> None:
        self._device = device
        self._process = process
        self._config = config
        self._paging = True

    async def run(self) -> None:
        self._write(b"\r\nThis is " + self._device.name.encode() + b". Authorised use only.\r\n")
        # A line of the message of the day that looks like a prompt, as on real devices.
        self._write(b"example# is not a prompt\r\n\r\n" + self._device.prompt)
        while (line := await self._read_line()) is not None:
            if line == "exit":
                return
            await self._execute(line)
            self._write(self._device.prompt)

    def _write(self, data: bytes) -> None:
        self._process.stdout.write(data)

    async def _read_line(self) -> str | None:
        line = bytearray()
        while byte := await self._process.stdin.read(1):
            if byte in b"\r\n":
                self._write(b"\r\n")
                return line.decode("utf-8", "replace").strip()
            line += byte
            self._write(byte)
        return None

    async def _execute(self, line: str) -> None:
        fault = self._device.fault
        if fault is Fault.MUTE and line:
            await asyncio.Event().wait()
        if line == "screen lines off":
            self._paging = False
        elif line == "display config active" and fault is not Fault.REFUSES:
            await self._display(self._config().splitlines())
        elif line == "display clock":
            await self._display(self._config().splitlines()[1:2])
        elif line:
            self._write(f"Unknown command: {line}\r\n".encode())

    async def _display(self, lines: list[str]) -> None:
        fault = self._device.fault
        if fault in (Fault.HALF, Fault.CLOSES):
            lines = lines[: len(lines) // 2]
        if fault is Fault.ESCAPES:
            lines[3:3] = ["! \x1b]0;owned\x07\x1b[2J\x1b[31mred\x1b[0m \u202egnp.exe"]
        async for line in self._paged(lines):
            self._write(line.encode() + b"\r\n")
            if fault is Fault.SLOW:
                await asyncio.sleep(0.01)
        while fault is Fault.ENDLESS:
            self._write(b"interface port-1\r\n" * 500)
            await self._process.stdout.drain()
        if fault is Fault.CLOSES:
            raise EOFError

    async def _paged(self, lines: list[str]) -> AsyncIterator[str]:
        for number, line in enumerate(lines, 1):
            yield line
            if self._paging and number % _PAGE == 0 and number < len(lines):
                self._write(_MORE)
                await self._process.stdin.read(1)
                self._write(b"\r" + b" " * len(_MORE) + b"\r")
