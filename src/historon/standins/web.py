"""What simulated servers behind HTTPS have in common: a certificate that nobody signed, and a port on loopback."""

import ssl
import sys
import threading
from abc import ABC, abstractmethod
from collections.abc import Mapping
from dataclasses import dataclass, field
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from typing import Any
from urllib.parse import parse_qs, urlsplit

from historon.standins.certificates import SelfSigned

__all__ = ["Reply", "Request", "WebServer"]


@dataclass(frozen=True)
class Request:
    """What a client asked."""

    method: str
    path: str
    query: Mapping[str, str]
    headers: Mapping[str, str]
    body: bytes
    written_query: str = ""

    @property
    def form(self) -> dict[str, str]:
        """The fields of a form (application/x-www-form-urlencoded)."""
        return {name: values[0] for name, values in parse_qs(self.body.decode("utf-8", "replace")).items()}

    @property
    def cookies(self) -> dict[str, str]:
        """The cookies that came along (RFC 6265 section 4.2)."""
        pairs = (pair.strip().partition("=") for pair in self.headers.get("cookie", "").split(";"))
        return {name: value for name, _, value in pairs if name}


@dataclass(frozen=True)
class Reply:
    """What is answered. `cut` bytes are left out at the end although they are announced."""

    body: bytes = b""
    status: int = 200
    kind: str = "text/plain"
    headers: Mapping[str, str] = field(default_factory=dict)
    cut: int = 0


class WebServer(ABC):
    """A server in threads of its own; `requests` counts what was asked."""

    def __init__(self, name: str, folder: Path) -> None:
        self.name = name
        self.port = 0
        self.requests = 0
        folder.mkdir(mode=0o700, parents=True, exist_ok=True)
        self._folder = folder
        self.tls = SelfSigned.make(folder, name)
        self.in_clear = False  # whether it speaks HTTP without TLS
        self.clients: Path | None = None  # certificates of those who are let in; None: whoever comes
        self._server: ThreadingHTTPServer | None = None

    @property
    def fingerprint(self) -> str:
        """The certificate's SHA-256, as it is pinned."""
        return self.tls.fingerprint

    def renew(self) -> None:
        """Another certificate, from the next start on."""
        self.tls = SelfSigned.make(self._folder, self.name)

    def start(self) -> None:
        """Listen on loopback, on the port of before or a free one."""
        server = self

        class Handler(_Handler):
            owner = server

        self._server = _Quiet(("127.0.0.1", self.port), Handler)
        self._server.daemon_threads = True
        if not self.in_clear:
            self._secure(self._server)
        self.port = self._server.server_address[1]
        threading.Thread(target=self._server.serve_forever, args=[0.02], daemon=True, name=self.name).start()

    def _secure(self, server: ThreadingHTTPServer) -> None:
        context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
        context.load_cert_chain(self.tls.certificate, self.tls.key)
        if self.clients is not None:
            context.verify_mode = ssl.CERT_REQUIRED
            context.load_verify_locations(self.clients)
        # The handshake happens in the connection's own thread: one that never ends keeps nobody waiting.
        server.socket = context.wrap_socket(server.socket, server_side=True, do_handshake_on_connect=False)

    def stop(self) -> None:
        """Stop listening."""
        if self._server:
            self._server.shutdown()
            self._server.server_close()

    @abstractmethod
    def answer(self, request: Request) -> Reply:
        """What to answer."""


class _Quiet(ThreadingHTTPServer):
    def handle_error(self, request: Any, client_address: Any) -> None:
        """Say nothing of clients that are gone in the middle."""
        if not isinstance(sys.exc_info()[1], ConnectionError | ssl.SSLError):
            super().handle_error(request, client_address)


class _Handler(BaseHTTPRequestHandler):
    owner: WebServer
    protocol_version = "HTTP/1.1"
    disable_nagle_algorithm = True
    wbufsize = -1

    def _handle(self) -> None:
        self.owner.requests += 1
        url = urlsplit(self.path)
        query = {name: values[0] for name, values in parse_qs(url.query).items()}
        body = self.rfile.read(int(self.headers.get("content-length", 0)))
        headers = {name.lower(): value for name, value in self.headers.items()}
        reply = self.owner.answer(Request(self.command, url.path, query, headers, body, url.query))
        self.send_response(reply.status)
        self.send_header("content-type", reply.kind)
        if "content-length" not in reply.headers:
            self.send_header("content-length", str(len(reply.body)))
        for name, value in reply.headers.items():
            self.send_header(name, value)
        self.end_headers()
        self.wfile.write(reply.body[: len(reply.body) - reply.cut])
        if reply.cut:
            self.close_connection = True

    do_GET = do_HEAD = do_POST = do_PUT = do_DELETE = _handle  # noqa: N815 (the library's names)

    def log_message(self, format: str, *args: Any) -> None:  # noqa: A002 (the library's name)
        """Say nothing."""
