"""Telling programs: webhooks, log servers, commands and files. Each says in a few words what became of it."""

import hashlib
import hmac
import os
import socket
import ssl
import subprocess
from collections.abc import Callable, Mapping, Sequence
from contextlib import suppress
from dataclasses import dataclass
from datetime import datetime
from functools import partial

import msgspec

from historon.errors import OutsideError, causes_of
from historon.estate import (
    CommandChannel,
    Estate,
    FileChannel,
    SecretError,
    SecretRef,
    Severity,
    SyslogChannel,
    WebhookChannel,
    small_environment,
)
from historon.notices.events import Event
from historon.notices.letters import Letter
from historon.notices.rendering import TemplateError, own_template, rendered, visible
from historon.times import utc_text
from historon.tls import PinError, pinned_context

__all__ = ["NoticeError", "Sent", "request", "run_command", "send_syslog", "send_webhook", "trusting", "write_file"]

_TIMEOUT_S = 30
_PORTS = {"udp": 514, "tcp": 601, "tls": 6514}
_LONGEST_DATAGRAM = 8192
_ENTERPRISE = 32473  # for examples and documentation, RFC 5612
_LONGEST_ANSWER = 200


class NoticeError(OutsideError):
    """A notice could not be told; `conversation` is what was said until then."""

    def __init__(self, message: str, *, hint: str = "", conversation: Sequence[str] = ()) -> None:
        super().__init__(message, hint=hint)
        self.conversation = tuple(conversation)


@dataclass(frozen=True)
class Sent:
    """What became of a notice, in a few words and in the words of the other side, line by line.

    Of several recipients: who has got it, who is refused for good, and who is to be tried again.
    """

    answer: str
    conversation: Sequence[str] = ()
    taken: tuple[str, ...] = ()
    refused: tuple[str, ...] = ()
    later: tuple[str, ...] = ()


def trusting(certificate: str | None, authority: str | None, estate: Estate) -> ssl.SSLContext:
    """Whom to trust: the one with this certificate, those that an authority vouches for, or those the system trusts.

    Raises NoticeError when the authority's file cannot be used.
    """
    if certificate:
        return pinned_context(certificate)
    try:
        return ssl.create_default_context(cafile=str(estate.path(authority)) if authority else None)
    except OSError as exc:
        raise NoticeError(f"the authority {authority}: {exc.strerror or exc}", hint="is it a PEM file?") from exc


def as_data(letter: Letter, estate: Estate, at: datetime) -> dict[str, object]:
    """The notice for programs, as it is documented in docs/being-told.md."""
    severity = min((event.severity for event in letter.events), default=Severity.INFO)
    return {
        "estate": estate.settings.name, "subject": letter.subject,
        "severity": severity.word, "severity_number": int(severity),
        "at": utc_text(at),
        "events": [event.data for event in letter.events],
        "text": letter.text,
    }  # fmt: skip


def send_webhook(channel: WebhookChannel, letter: Letter, estate: Estate, at: datetime) -> Sent:
    """POST the notice; its body is signed with the channel's secret."""
    body = _body(channel, as_data(letter, estate, at), estate)
    headers = {"content-type": channel.content_type}
    if channel.secret:
        key = _resolved("webhook", channel.secret, estate).encode()
        headers["historon-signature"] = "sha256=" + hmac.new(key, body, hashlib.sha256).hexdigest()
    status = request(
        "webhook", "POST", channel.url, estate, trust=partial(trusting, channel.certificate, channel.authority, estate),
        body=body, headers=headers,
    )  # fmt: skip
    signed = ", signed" if channel.secret else ""
    return Sent(
        f"answered with status {status}",
        [f"> POST {channel.url}: {len(body):,} bytes of {channel.content_type}{signed}", f"< status {status}"],
    )


def request(
    what: str, method: str, url: SecretRef, estate: Estate, *, trust: Callable[[], ssl.SSLContext] | None = None,
    body: bytes = b"", headers: Mapping[str, str] | None = None,
) -> int:  # fmt: skip
    """Ask an address; returns the status of the answer. Raises NoticeError, which never shows it: it may be secret."""
    import httpx  # imported where it is used: few estates have such a channel

    address = _resolved(what, url, estate).strip()
    follow = method == "GET"
    if address.lower().startswith("http://") and not follow:
        verify: ssl.SSLContext | bool = ssl.SSLContext(
            ssl.PROTOCOL_TLS_CLIENT
        )  # no certificate is met: it trusts nobody
    else:
        verify = trust() if trust else True
    try:
        with httpx.Client(verify=verify, timeout=_TIMEOUT_S, follow_redirects=follow) as client:
            answer = client.request(
                method, address, content=body, headers={"user-agent": "historon", **(headers or {})}
            )
    except (httpx.InvalidURL, httpx.UnsupportedProtocol) as exc:
        raise NoticeError(f"{what}: this is not an address", hint="it begins with https://") from exc
    except httpx.HTTPError as exc:
        pin = any(isinstance(one, PinError) for one in causes_of(exc))
        why = "its certificate is not the pinned one" if pin else f"nobody answers ({type(exc).__name__})"
        raise NoticeError(f"{what}: {why}", hint="is the address right, and reachable from here?") from exc
    if not answer.is_success:
        raise NoticeError(f"{what}: answered with status {answer.status_code}", hint="is the address still valid?")
    return answer.status_code


def _resolved(what: str, reference: SecretRef, estate: Estate) -> str:
    try:
        return reference.resolve(estate.folder).reveal()
    except SecretError as exc:
        raise NoticeError(f"{what}: {exc.message}", hint=exc.hint) from exc


def _body(channel: WebhookChannel, data: dict[str, object], estate: Estate) -> bytes:
    if channel.template is None:
        return msgspec.json.encode(data)
    try:
        return rendered(own_template(estate, channel.template), data).encode()
    except TemplateError as exc:
        raise NoticeError(f"webhook: the template {channel.template}: {exc.message}", hint=exc.hint) from exc


def send_syslog(channel: SyslogChannel, letter: Letter, estate: Estate, _at: datetime) -> Sent:
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
            with socket.create_connection((channel.server, port), timeout=_TIMEOUT_S) as plain:
                _send_framed(channel, plain, messages, estate)
    except PinError as exc:
        raise NoticeError(
            f"{place}: its certificate is {exc.shown}, not the pinned one", hint="was it renewed?"
        ) from exc
    except OSError as exc:
        raise NoticeError(f"{place}: {exc.strerror or exc}", hint="check server, port and over") from exc
    told = [f"> {message.decode('utf-8', 'replace')[:_LONGEST_ANSWER]}" for message in messages]
    return Sent(f"{len(messages)} messages to {place} over {channel.over}", told)


def _send_framed(channel: SyslogChannel, plain: socket.socket, messages: list[bytes], estate: Estate) -> None:
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


def _syslog(channel: SyslogChannel, event: Event, estate: Estate) -> bytes:
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


def run_command(channel: CommandChannel, letter: Letter, estate: Estate, at: datetime) -> Sent:
    """Give the notice to a program as JSON on its standard input."""
    name = channel.command[0]
    try:
        done = subprocess.run(
            channel.command, input=msgspec.json.encode(as_data(letter, estate, at)), cwd=estate.folder,
            capture_output=True, check=False, timeout=channel.deadline.total_seconds(), env=small_environment(),
        )  # fmt: skip
    except subprocess.TimeoutExpired as exc:
        raise NoticeError(
            f"command {name}: timed out after {channel.deadline}", hint="make it faster, or raise deadline"
        ) from exc
    except OSError as exc:
        raise NoticeError(f"command {name}: {exc.strerror}", hint="is the program there, and may it be run?") from exc
    if done.returncode:
        said = visible(done.stderr.decode("utf-8", "replace").strip(), " ")[:_LONGEST_ANSWER]
        raise NoticeError(f"command {name}: ended with exit code {done.returncode}: {said}", hint="try it by hand")
    said = visible(done.stdout.decode("utf-8", "replace").strip(), " ")[:_LONGEST_ANSWER]
    return Sent(
        f"{name} ended with exit code 0", [f"> {' '.join(channel.command)}", f"< exit code 0{': ' * bool(said)}{said}"]
    )


def write_file(channel: FileChannel, letter: Letter, estate: Estate, at: datetime) -> Sent:
    """Append the notice to a file as one line of JSON."""
    path = estate.path(channel.path)
    try:
        with os.fdopen(os.open(path, os.O_WRONLY | os.O_APPEND | os.O_CREAT, 0o600), "ab") as file:
            file.write(msgspec.json.encode(as_data(letter, estate, at)) + b"\n")
    except OSError as exc:
        raise NoticeError(f"file {path}: {exc.strerror}", hint="is its folder there, and writable?") from exc
    return Sent(f"written to {path}")
