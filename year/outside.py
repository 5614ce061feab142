"""What is reported, and to whom: a mail relay and a web server, in a process of their own, that keep what they receive.

How they behave stands in a file that is read each time.
"""

import asyncio
import itertools
import json
import os
import signal
from collections.abc import Callable
from dataclasses import dataclass
from http.server import BaseHTTPRequestHandler, HTTPServer
from pathlib import Path
from typing import Any

from historon.standins.certificates import SelfSigned
from historon.standins.pennant import Pennant

__all__ = ["OPERATOR", "Outside"]

OPERATOR = "operators@brackwater.example"


@dataclass
class Outside:
    """Both, until `stop`. `behave` sets how: for each of them `""`, `"down"` or `"later"`."""

    folder: Path
    mail_port: int = 0
    web_port: int = 0
    certificate: str = ""
    _pid: int = 0

    @property
    def letters(self) -> list[Path]:
        """The letters that were taken, in their order."""
        return sorted(self.folder.glob("*.eml"))

    @property
    def posts(self) -> list[Path]:
        """What the web server took, in its order."""
        return sorted(self.folder.glob("*.json"))

    def behave(self, mail: str = "", web: str = "") -> None:
        """How they are to behave from now on."""
        state = self.folder / "behaviour"
        state.with_suffix(".new").write_text(json.dumps({"mail": mail, "web": web}))
        state.with_suffix(".new").rename(state)

    def start(self) -> None:
        """Start them."""
        self.folder.mkdir(parents=True)
        self.behave()
        tls = SelfSigned.make(self.folder)
        ours, its = os.pipe()
        self._pid = os.fork()
        if self._pid == 0:
            _be_outside(self, tls, its)
        os.close(its)
        told = json.loads(os.read(ours, 2**16))
        os.close(ours)
        self.mail_port, self.web_port, self.certificate = told["mail"], told["web"], tls.fingerprint

    def stop(self) -> None:
        """End them."""
        os.kill(self._pid, signal.SIGKILL)
        os.waitpid(self._pid, 0)


class _Relay(Pennant):
    """Keeps each letter as a file, and behaves as it is ordered."""

    behaviour: Callable[[], str]
    keep: Callable[[bytes], None]

    async def handle_RCPT(self, *given: Any) -> str:  # noqa: N802 (the library's name)
        if self.behaviour() == "later":
            return "451 try again later"
        if self.behaviour() == "down":
            return "421 closing down"
        return await super().handle_RCPT(*given)

    async def handle_DATA(self, server: Any, session: Any, envelope: Any) -> str:  # noqa: N802 (the library's name)
        self.keep(envelope.content)
        return "250 kept"


def _be_outside(outside: Outside, tls: SelfSigned, talk: int) -> None:
    numbers = itertools.count(1)
    folder = outside.folder

    def behaviour(which: str) -> str:
        return str(json.loads((folder / "behaviour").read_text())[which])

    def keep(content: bytes, suffix: str) -> None:
        file = folder / f"{next(numbers):06}"
        file.write_bytes(content)
        file.rename(file.with_suffix(suffix))

    class Handler(BaseHTTPRequestHandler):
        def do_GET(self) -> None:
            keep(b"", ".beat")
            self.send_response(204)
            self.end_headers()

        def do_POST(self) -> None:
            body = self.rfile.read(int(self.headers.get("content-length") or 0))
            well = not behaviour("web")
            if well:
                keep(body, ".json")
            self.send_response(204 if well else 503)
            self.end_headers()

        def log_message(self, format: str, *args: object) -> None:  # noqa: A002 (so it is called there)
            return None

    async def main() -> None:
        relay = _Relay(tls)
        relay.behaviour, relay.keep = lambda: behaviour("mail"), lambda content: keep(content, ".eml")
        relay.start()
        server = HTTPServer(("127.0.0.1", 0), Handler)
        os.write(talk, json.dumps({"mail": relay.port, "web": server.server_port}).encode())
        os.close(talk)
        server.serve_forever()

    asyncio.run(main())
