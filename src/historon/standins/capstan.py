"""A Capstan router: an interactive command line over SSH, with a banner, echo, paging and a clock line.

Made up. It takes `paging off`, `list settings active`, `list clock`, `list version`, `elevate` (which asks
for a password of its own and changes the prompt), `erase log` (which asks whether it is meant), `menu` and `exit`.

Where its settings may be edited it takes `configure`; then settings line by line, `no` in front of one that is to go,
`exit` out of a section, `end`, and afterwards `save`.
"""

import asyncio
from collections.abc import AsyncIterator, Callable
from datetime import UTC, datetime, timedelta
from enum import StrEnum
from typing import Any, Protocol

import asyncssh

from historon.standins.capstan_settings import CapstanSettings
from historon.standins.device import SshDevice

__all__ = ["Capstan", "Fault", "TelnetDoor"]

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
    CLOCK = "has a clock that is two hours behind"
    STUBBORN = "takes no more than two settings, and refuses the third"
    FORGETFUL = "says that it has saved its settings, and has not"


class Capstan(SshDevice):
    """One router. `config` is asked for its configuration each time; `fault` may be set at any time."""

    def __init__(
        self,
        name: str,
        config: Callable[[], str],
        *,
        authorized: asyncssh.SSHKey | None = None,
        save: Callable[[str], None] | None = None,
    ) -> None:
        """`save` takes edited settings; without it they cannot be edited."""
        super().__init__(name, authorized)
        self.fault: Fault | None = None
        self.save = save
        self.elevation = "crow-nest-7"
        self.patience = 1  # how often it asks for the elevation password; after more than one it hangs up
        self.elevations_tried = 0
        self.locked = False  # whether the configuration is shown to the elevated alone
        self.version = "4.2"
        self.options: dict[str, Any] = {}
        self.config = config

    def _options(self) -> dict[str, Any]:
        return self.options

    @property
    def prompt(self) -> bytes:
        """What stands at the end when the router waits."""
        return f"{self.name}# ".encode()

    async def _session(self, process: asyncssh.SSHServerProcess[bytes]) -> None:
        if self._is_mended():
            self.fault = None
        try:
            await _Conversation(self, process, self.config).run()
        except (asyncssh.Error, OSError, EOFError):
            pass  # the client has gone
        finally:
            process.close()


class _Terminal(Protocol):
    """What a conversation goes over: SSH, or Telnet."""

    @property
    def stdin(self) -> Any: ...

    @property
    def stdout(self) -> Any: ...


class _Conversation:
    def __init__(self, device: Capstan, process: _Terminal, config: Callable[[], str]) -> None:
        self._device = device
        self._process = process
        self._config = config
        self._paging = True
        self._after_return = False
        self._elevated = False
        self._hangs_up = False
        self._settings: CapstanSettings | None = None  # while they are edited
        self._edited: str | None = None  # until they are saved
        self._taken = 0

    @property
    def _prompt(self) -> bytes:
        if self._settings is not None:
            where = b".section# " if self._settings.inside else b".configure# "
            return self._device.prompt.replace(b"# ", where)
        return self._device.prompt.replace(b"#", b"##") if self._elevated else self._device.prompt

    async def run(self) -> None:
        self._write(b"\r\nThis is " + self._device.name.encode() + b". Authorised use only.\r\n")
        # A line of the message of the day that looks like a prompt, as on real devices.
        self._write(b"example# is not a prompt\r\n\r\n" + self._prompt)
        while (line := await self._read_line()) is not None:
            if self._settings is not None:
                self._edit(self._settings, line)
            elif line == "exit":
                return
            else:
                await self._execute(line)
            if self._hangs_up:
                return
            self._write(self._prompt)

    def _write(self, data: bytes) -> None:
        self._process.stdout.write(data)

    async def _read_line(self, *, echo: bool = True) -> str | None:
        line = bytearray()
        while byte := await self._process.stdin.read(1):
            if byte in b"\r\n\0":
                if byte != b"\r" and not line and self._after_return:
                    self._after_return = False
                    continue
                self._after_return = byte == b"\r"
                self._write(b"\r\n")
                return line.decode("utf-8", "replace").strip()
            line += byte
            if echo:
                self._write(byte)
        return None

    async def ask(self, question: str, *, echo: bool = True) -> str:
        """The answer to a question."""
        self._write(question.encode())
        return await self._read_line(echo=echo) or ""

    async def _execute(self, line: str) -> None:
        fault = self._device.fault
        if fault is Fault.MUTE and line:
            await asyncio.Event().wait()
        if line == "paging off":
            self._paging = False
        elif line == "list settings active" and fault is not Fault.REFUSES and not self._denied:
            await self._display(self._config().splitlines())
        elif line == "list clock":
            behind = timedelta(hours=2 if fault is Fault.CLOCK else 0)
            self._write(f"Clock: {datetime.now(UTC) - behind:%H:%M:%S UTC %d %b %Y}\r\n".encode())
        elif line == "list version":
            self._write(f"Capstan OS version {self._device.version}, up 12 days\r\n".encode())
        elif line == "show configuration" and self._device.version >= "5":
            await self._display(self._config().splitlines())
        else:
            await self._converse(line)

    @property
    def _denied(self) -> bool:
        return (self._device.locked and not self._elevated) or self._device.version >= "5"

    def _edit(self, settings: CapstanSettings, line: str) -> None:
        """A line while settings are edited."""
        if line == "end" or (line == "exit" and not settings.inside):
            self._edited, self._settings = str(settings), None
        elif line == "exit":
            settings.leave()
        elif line and not line.startswith("!"):
            self._taken += 1
            refused = self._device.fault is Fault.STUBBORN and self._taken > 2
            wrong = "Error: not now" if refused else settings.take(line)
            if wrong:
                self._write(f"{wrong}\r\n".encode())

    def _save(self) -> None:
        if self._device.save is not None and self._edited is not None and self._device.fault is not Fault.FORGETFUL:
            self._device.save(self._edited)
        self._write(b"Saved\r\n")

    async def _converse(self, line: str) -> None:
        """Commands that ask back, and those that edit."""
        if line == "configure" and self._device.save is not None:
            self._settings = CapstanSettings(self._config())
        elif line == "save":
            self._save()
        elif line == "elevate":
            await self._elevate()
        elif line == "erase log":
            sure = await self.ask("Erase the log? [yes/no] ")
            self._write(b"erased\r\n" if sure == "yes" else b"kept\r\n")
        elif line == "menu":
            while (choice := await self.ask("1 status\r\n2 configuration\r\n0 back\r\nChoice: ")) != "0":
                await self._display(self._config().splitlines() if choice == "2" else ["all is well"])
        elif line:
            self._write(f"Unknown command: {line}\r\n".encode())

    async def _elevate(self) -> None:
        for _ in range(self._device.patience):
            self._device.elevations_tried += 1
            self._elevated = await self.ask("Elevation password: ", echo=False) == self._device.elevation
            if self._elevated:
                return
            self._write(b"Access denied\r\n")
        self._hangs_up = self._device.patience > 1

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


class TelnetDoor:
    """The same command line over Telnet (RFC 854), as the oldest ones have it: it asks for user and password itself."""

    def __init__(self, device: Capstan) -> None:
        self.port = 0
        self._device = device
        self._server: asyncio.Server | None = None

    async def start(self) -> None:
        """Listen on loopback."""
        self._server = await asyncio.start_server(self._serve, "127.0.0.1", self.port)
        self.port = self._server.sockets[0].getsockname()[1]

    async def stop(self) -> None:
        """Stop listening."""
        if self._server:
            self._server.close()

    async def _serve(self, reader: "asyncio.StreamReader", writer: "asyncio.StreamWriter") -> None:
        terminal = _TelnetTerminal(_Negotiating(reader, writer), writer)
        conversation = _Conversation(self._device, terminal, self._device.config)
        try:
            for _ in range(3):
                writer.write(b"\r\nUser access verification\r\n\r\n")
                user = await conversation.ask("Username: ")
                password = await conversation.ask("Password: ", echo=False)
                if (user, password) == (self._device.user, self._device.password):
                    await conversation.run()
                    break
                writer.write(b"Login incorrect\r\n")
        except (OSError, EOFError):
            pass  # the client has gone
        finally:
            writer.close()


class _Negotiating:
    """Reads bytes, and refuses every option that the other side offers or asks for (RFC 854 page 2)."""

    def __init__(self, reader: "asyncio.StreamReader", writer: "asyncio.StreamWriter") -> None:
        self._reader = reader
        self._writer = writer

    async def read(self, _count: int) -> bytes:
        while (byte := await self._reader.read(1)) == b"\xff":
            command = await self._reader.readexactly(1)
            if command == b"\xfa":  # a subnegotiation, up to IAC SE
                await self._reader.readuntil(b"\xff\xf0")
            elif command in (b"\xfb", b"\xfd"):  # WILL gets DONT, DO gets WONT
                option = await self._reader.readexactly(1)
                self._writer.write(b"\xff" + (b"\xfe" if command == b"\xfb" else b"\xfc") + option)
            elif command in (b"\xfc", b"\xfe"):
                await self._reader.readexactly(1)
        return byte


class _TelnetTerminal:
    def __init__(self, stdin: _Negotiating, stdout: "asyncio.StreamWriter") -> None:
        self.stdin = stdin
        self.stdout = stdout
