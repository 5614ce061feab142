"""Simulated devices beside the program, in its own event loop, so that time need not be waited for.

What each one has to give, and how it behaves, stands in two files of its own; they are looked at again each time that the
service was still.
"""

import asyncio
import base64
import json
import ssl
from contextlib import suppress
from dataclasses import dataclass, field
from functools import partial
from pathlib import Path
from typing import Any, Protocol

import asyncssh

from historon.standins.capstan import Capstan, Fault, TelnetDoor
from historon.standins.certificates import SelfSigned
from historon.standins.device import SshDevice
from historon.standins.fairlead import Fairlead
from historon.standins.thole import Thole, TholeFault

__all__ = ["ANOTHER_KEY", "CLOSED", "REFUSES", "SILENT", "Device", "Devices"]

ANOTHER_KEY, CLOSED, SILENT, REFUSES = "another key", "closed", "silent", "refused the log-in"
USER, PASSWORD = "config-reader", "harbour-light"
_LISTENING = (ANOTHER_KEY, CLOSED, SILENT)  # modes in which the port itself behaves differently


class _Stoppable(Protocol):
    async def start(self) -> None: ...

    async def stop(self) -> None: ...


@dataclass
class Device:
    """One device: what it speaks, where, and the folder in which its content and its mode stand."""

    name: str
    transport: str
    port: int
    folder: Path
    identities: tuple[Any, Any]  # its own and another key or certificate
    _mode: str = ""
    _listening: _Stoppable | None = None

    @property
    def fingerprint(self) -> str:
        """Its own host key's or certificate's."""
        own = self.identities[0]
        return str(own.fingerprint if isinstance(own, SelfSigned) else own.get_fingerprint())

    def put(self, content: bytes | None, mode: str) -> None:
        """Let it have this, and behave so."""
        self.folder.mkdir(parents=True, exist_ok=True)
        (self.folder / "state").write_text(json.dumps({"mode": mode, "there": content is not None}))
        (self.folder / "content").write_bytes(content or b"")
        if self.transport == "ssh-exec":
            (self.folder / "export").mkdir(exist_ok=True)
            (self.folder / "export" / "config.tgz").unlink(missing_ok=True)
            if content is not None:
                (self.folder / "export" / "config.tgz").write_bytes(content)

    def content(self) -> bytes:
        """What it has to give."""
        return (self.folder / "content").read_bytes()

    async def refresh(self) -> None:
        """Take up how it is to behave now."""
        mode = json.loads((self.folder / "state").read_text())["mode"]
        if self._listening is not None and (mode == self._mode or {mode, self._mode}.isdisjoint(_LISTENING)):
            self._mode = mode
            self._behave(self._listening)
            return
        if self._listening is not None:
            await self._listening.stop()
        self._mode = mode
        self._listening = None if mode == CLOSED else self._made()
        if self._listening is not None:
            self._behave(self._listening)
            await self._listening.start()

    def _made(self) -> _Stoppable:
        if self._mode == SILENT:
            return _Silent(self.port)
        identity = self.identities[self._mode == ANOTHER_KEY]
        if self.transport == "https":
            return _Web(self, identity)
        made: SshDevice
        if self.transport in ("ssh-shell", "telnet"):
            made = Capstan(self.name, lambda: self.content().decode())
        elif self.transport == "netconf":
            made = Thole(self.name, lambda: self.content().decode())
        else:
            made = Fairlead(self.name, self.folder, dict)
        made.port, made.host_key = self.port, identity
        if self.transport == "telnet":
            assert isinstance(made, Capstan)
            door = TelnetDoor(made)
            door.port = self.port
            return door
        return made

    def _behave(self, listening: _Stoppable) -> None:
        device: Any = listening._device if isinstance(listening, TelnetDoor) else listening
        if isinstance(device, SshDevice):
            device.user, device.password = USER, "changed" if self._mode == REFUSES else PASSWORD
        if isinstance(device, Capstan):
            device.fault = Fault[self._mode] if self._mode in Fault.__members__ else None
        if isinstance(device, Thole):
            device.fault = TholeFault[self._mode] if self._mode in TholeFault.__members__ else None
        if isinstance(device, _Web):
            device.mode = self._mode


class _Silent:
    """Takes connections and says nothing."""

    def __init__(self, port: int) -> None:
        self._port = port

    async def start(self) -> None:
        self._server = await asyncio.start_server(lambda _reader, _writer: None, "127.0.0.1", self._port)

    async def stop(self) -> None:
        self._server.close()


_LOGIN = (
    b'<html><body><form method="post"><input name="user"><input type="password" name="password"></form></body></html>'
)


class _Web:
    """A server that gives its content to whoever has the account (RFC 7617)."""

    def __init__(self, device: Device, tls: SelfSigned) -> None:
        self._device = device
        self._tls = tls
        self.mode = ""

    async def start(self) -> None:
        context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
        context.load_cert_chain(self._tls.certificate, self._tls.key)
        self._server = await asyncio.start_server(self._serve, "127.0.0.1", self._device.port, ssl=context)

    async def stop(self) -> None:
        self._server.close()

    async def _serve(self, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        with suppress(OSError, EOFError, asyncio.IncompleteReadError):
            while await self._answer(reader, writer):
                pass
        with suppress(OSError):
            writer.close()

    async def _answer(self, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> bool:
        head = await reader.readuntil(b"\r\n\r\n")
        if self.mode == "MUTE":
            await asyncio.Event().wait()
        status, body = self._reply(head)
        length = len(body)
        if self.mode == "CUTS":
            body = body[: length // 2]
        writer.write(f"HTTP/1.1 {status}\r\ncontent-length: {length}\r\n\r\n".encode() + body)
        await writer.drain()
        return self.mode != "CUTS"

    def _reply(self, head: bytes) -> tuple[str, bytes]:
        account = base64.b64encode(f"{USER}:{PASSWORD}".encode())
        if account not in head or self.mode == REFUSES:
            return "401 Unauthorized", b""
        if self.mode == "LOGIN":
            return "200 OK", _LOGIN
        if self.mode == "BROKEN":
            return "500 Internal Server Error", b"oh dear"
        if self.mode == "BUSY":
            return "503 Service Unavailable", b"later"
        if self.mode == "ERROR":
            return "200 OK", b'{"error": "no such session"}'
        return "200 OK", self._device.content()


@dataclass
class Devices:
    """All of them."""

    all: dict[str, Device] = field(default_factory=dict)

    def add(self, name: str, transport: str, port: int, folder: Path) -> Device:
        """One more, with a key or certificate of its own."""
        folder.mkdir(parents=True, exist_ok=True)
        make: Any = partial(SelfSigned.make, folder) if transport == "https" else _key
        self.all[name] = Device(name, transport, port, folder, (make("own"), make("another")))
        return self.all[name]

    async def refresh(self) -> None:
        """Listen, each on its port, and take up how each is to behave now."""
        for device in self.all.values():
            await device.refresh()


def _key(_name: str) -> asyncssh.SSHKey:
    return asyncssh.generate_private_key("ssh-ed25519")
