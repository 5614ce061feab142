"""A log server: a message for each event (RFC 5424) over UDP (RFC 5426), TCP (RFC 6587) or TLS (RFC 5425)."""

import os
import socket
from collections.abc import Mapping, Sequence
from contextlib import suppress
from datetime import datetime
from typing import TYPE_CHECKING, Annotated, ClassVar, Literal

from msgspec import Meta

from historon.base.quantities import utc_text
from historon.base.tls import PinError
from historon.estate import Channel, Estate, Port, check_trust
from historon.notices.channels.interface import LONGEST_ANSWER, TIMEOUT_S, NoticeError, Sent, trusting
from historon.notices.rendering import visible

if TYPE_CHECKING:
    from historon.notices.events import Event
    from historon.notices.letters import Letter

__all__ = ["SyslogChannel", "send"]

_PORTS = {"udp": 514, "tcp": 601, "tls": 6514}
_LONGEST_DATAGRAM = 8192
_ENTERPRISE = 32473  # for examples and documentation, RFC 5612


class SyslogChannel(Channel, frozen=True, kw_only=True):
    """A log server (RFC 5424): over UDP (RFC 5426), TCP with octet counting (RFC 6587) or TLS (RFC 5425)."""

    kind: ClassVar[str] = "syslog"

    server: str
    port: Port | None = None
    over: Literal["udp", "tcp", "tls"] = "tls"
    facility: Annotated[int, Meta(ge=0, le=23)] = 16
    certificate: str | None = None
    authority: str | None = None

    def __post_init__(self) -> None:
        """Certificates belong to TLS."""
        check_trust(self.certificate, self.authority)
        if self.over != "tls" and (self.certificate or self.authority):
            raise ValueError(f'over {self.over} there is no certificate (set over = "tls")')

    @property
    def goes_to(self) -> str:
        return f"{self.server} over {self.over}"

    @property
    def reads(self) -> Mapping[str, str | None]:
        return {"authority": self.authority}


def send(channel: SyslogChannel, letter: "Letter", estate: Estate, _at: datetime, _remaining: Sequence[str]) -> Sent:
    """Send a message for each event (RFC 5424)."""
    port = channel.port or _PORTS[channel.over]
    place = f"log server {channel.server} port {port}"
    messages = [_syslog(channel, event, estate) for event in letter.events]
    try:
        if channel.over == "udp":
            kind, _, _, _, address = socket.getaddrinfo(channel.server, port, type=socket.SOCK_DGRAM)[0]
            with socket.socket(kind, socket.SOCK_DGRAM) as datagrams:
                for message in messages:
                    datagrams.sendto(message[:_LONGEST_DATAGRAM], address)
        else:
            with socket.create_connection((channel.server, port), timeout=TIMEOUT_S) as plain:
                _send_framed(channel, plain, messages, estate)
    except PinError as exc:
        raise NoticeError(
            f"{place}: its certificate is {exc.shown}, not the pinned one", hint="was it renewed?"
        ) from exc
    except OSError as exc:
        raise NoticeError(f"{place}: {exc.strerror or exc}", hint="check server, port and over") from exc
    told = [f"> {message.decode('utf-8', 'replace')[:LONGEST_ANSWER]}" for message in messages]
    return Sent(f"sent, unconfirmed: {len(messages)} messages to {place} over {channel.over}", told)


def _send_framed(channel: SyslogChannel, plain: "socket.socket", messages: list[bytes], estate: Estate) -> None:
    """Octet counting (RFC 6587 section 3.4.1), which TLS wants too (RFC 5425 section 4.3)."""
    framed = b"".join(b"%d %b" % (len(message), message) for message in messages)
    if channel.over == "tcp":
        plain.sendall(framed)
        return
    context = trusting(channel.certificate, channel.authority, estate)
    with context.wrap_socket(plain, server_hostname=channel.server) as secured:
        secured.sendall(framed)
        with suppress(OSError):
            secured.unwrap()  # says that this is the end (RFC 5425 section 4.4), whatever the other side makes of it


def _syslog(channel: SyslogChannel, event: "Event", estate: Estate) -> bytes:
    """One message, with what it is about as structured data (RFC 5424 section 6)."""
    host = "".join(char for char in socket.gethostname() if "!" <= char <= "~") or "-"
    facts = {"estate": estate.settings.name, "source": event.source or "", "advice": event.advice, "look": event.look}
    data = "".join(f' {name}="{_escaped(value)}"' for name, value in facts.items() if value)
    priority, stamp = channel.facility * 8 + event.severity, utc_text(event.at)
    head = f"<{priority}>1 {stamp} {host[:255]} historon {os.getpid()} {event.kind}"
    about = f"{event.source}: " if event.source else ""
    return f"{head} [historon@{_ENTERPRISE}{data}] \ufeff{visible(about + event.message, ' ')}".encode()


def _escaped(value: str) -> str:
    return visible(value, " ").replace("\\", "\\\\").replace('"', '\\"').replace("]", "\\]")
