"""Sending mail: SMTP (RFC 5321) over STARTTLS (RFC 3207) or TLS, to a relay whose certificate is verified or pinned."""

import hashlib
import smtplib
import ssl
from collections.abc import Callable, Sequence
from contextlib import suppress
from dataclasses import dataclass
from datetime import datetime
from email.message import EmailMessage
from email.policy import SMTP
from email.utils import format_datetime
from typing import Any

from historon.base.quantities import size_text
from historon.base.tls import PinError
from historon.estate import SecretError
from historon.notices.channels.interface import NoticeError, Sent
from historon.notices.letters import Letter
from historon.notices.rendering import visible

__all__ = ["Mailing", "send_mail"]

_TIMEOUT_S = 30
_PORTS = {"starttls": 587, "tls": 465, "none": 25}
_THREADS = 10  # sources whose threads a letter belongs to
_OK, _FOR_GOOD = 400, 500  # replies below and from these on (RFC 5321 section 4.2.1)
_LONGEST = 200  # characters of one line of the conversation


@dataclass(frozen=True)
class Mailing:
    """Where mail goes: the relay and how it is talked to, and the addresses in the letter's head.

    `trust` makes the TLS context, `login` fetches the account: user and password, or None for no log-in. `mark` is the
    Message-ID for a letter that has none.
    """

    server: str
    port: int | None
    security: str
    from_: str
    to: Sequence[str]
    domain: str
    mark: str
    trust: "Callable[[], ssl.SSLContext]"
    login: Callable[[], tuple[str, str] | None]


class _Recorded(smtplib.SMTP):
    """A relay, with the conversation on record. What is said while logging in is left out."""

    def __init__(self, host: str, port: int, said: list[str], **more: Any) -> None:
        self._said = said
        self._secret = False
        super().__init__(host, port, timeout=_TIMEOUT_S, **more)

    def putcmd(self, cmd: str, args: str = "") -> None:
        """See the library."""
        self._secret = self._secret or cmd.upper() == "AUTH"
        told = f"{cmd.upper()} {args.partition(' ')[0]} …" if cmd.upper() == "AUTH" else f"{cmd} {args}"
        self._said.append(f"> {'…' if self._secret and cmd.upper() != 'AUTH' else told.strip()}")
        super().putcmd(cmd, args)

    def getreply(self) -> tuple[int, bytes]:
        """See the library."""
        code, text = super().getreply()
        self._secret = self._secret and code == 334
        self._said += [f"< {code} {_plain(line)[:_LONGEST]}" for line in text.split(b"\n")]
        return code, text


class _RecordedTls(_Recorded, smtplib.SMTP_SSL):
    """The same, over TLS from the beginning."""


def send_mail(channel: Mailing, letter: Letter, at: datetime, recipients: Sequence[str]) -> Sent:
    """Send the letter to these recipients. Raises NoticeError when it is accepted for none of them.

    Recipients that are refused for good, and those to be tried again, are distinguished.
    """
    port = channel.port or _PORTS[channel.security]
    place = f"{channel.server} port {port}"
    said: list[str] = []
    try:
        relay = _connect(channel, port, said)
        try:
            _log_in(relay, channel)
            return _hand_over(relay, channel, letter, at, recipients, f"accepted by {place}", said)
        finally:
            _take_leave(relay)
    except (smtplib.SMTPException, OSError, SecretError) as exc:
        raise _trouble(exc, channel, place, said) from exc


def _trouble(exc: Exception, channel: Mailing, place: str, said: Sequence[str]) -> NoticeError:
    if isinstance(exc, SecretError):
        return NoticeError(f"mail through {place}: {exc.message}", hint=exc.hint, conversation=said)
    if isinstance(exc, smtplib.SMTPAuthenticationError):
        return NoticeError(
            f"mail through {place}: the relay refused the log-in ({exc.smtp_code})",
            hint="check the channel's credentials",
            conversation=said,
        )
    if isinstance(exc, PinError):
        return NoticeError(
            f"mail through {channel.server}: its certificate is {exc.shown}, not the pinned one",
            hint="was it renewed? If the change is unexplained, the connection may be intercepted. Nothing was sent.",
            conversation=said,
        )
    if isinstance(exc, ssl.SSLCertVerificationError):
        return NoticeError(
            f"mail through {place}: its certificate is not trusted: {exc.verify_message}",
            hint='name its authority (authority = "ca.pem") or pin it (certificate = "SHA256:…")',
            conversation=said,
        )
    if isinstance(exc, smtplib.SMTPResponseException):
        reason = f"the relay answered {exc.smtp_code} {_plain(exc.smtp_error)}"
    else:
        reason = getattr(exc, "strerror", None) or str(exc) or type(exc).__name__
    return NoticeError(f"mail through {place}: {reason}", hint="check server, port and security", conversation=said)


def _connect(channel: Mailing, port: int, said: list[str]) -> smtplib.SMTP:
    context = channel.trust()
    if channel.security == "tls":
        relay: smtplib.SMTP = _RecordedTls(channel.server, port, said, context=context)
    else:
        relay = _Recorded(channel.server, port, said)
    try:
        relay.ehlo()
        if channel.security == "starttls":
            relay.starttls(context=context)
            said.append(f"  (encrypted: {relay.sock.version()})" if isinstance(relay.sock, ssl.SSLSocket) else "")
            relay.ehlo()
    except BaseException:
        relay.close()
        raise
    return relay


def _take_leave(relay: smtplib.SMTP) -> None:
    """Whatever the relay makes of that, the letter is taken or not: it must not be sent twice for it."""
    with suppress(smtplib.SMTPException, OSError):
        relay.quit()
    relay.close()


def _log_in(relay: smtplib.SMTP, channel: Mailing) -> None:
    if login := channel.login():
        relay.login(*login)


def _hand_over(
    relay: smtplib.SMTP,
    channel: Mailing,
    letter: Letter,
    at: datetime,
    recipients: Sequence[str],
    place: str,
    said: list[str],
) -> Sent:
    _expect(relay.mail(channel.from_), lambda code, text: smtplib.SMTPSenderRefused(code, text, channel.from_))
    replies = {address: relay.rcpt(address) for address in recipients}
    taken = [address for address, (code, _) in replies.items() if code < _OK]
    refused = {address: _plain(text) for address, (code, text) in replies.items() if code >= _FOR_GOOD}
    later = [address for address, (code, _) in replies.items() if _OK <= code < _FOR_GOOD]
    if taken:
        content = _message(channel, letter, at).as_bytes()
        said.append(f"> (the letter, {size_text(len(content))})")
        _expect(relay.data(content), smtplib.SMTPDataError)
    else:
        relay.rset()
    why = "; ".join(f"refused for {address}: {text}" for address, text in refused.items())
    wait = f"queued for another try, for {', '.join(later)}" if later else ""
    well = f"{place} for {', '.join(taken)}" if taken else ""
    return Sent("; ".join(filter(None, (well, why, wait))), said, tuple(taken), tuple(refused), tuple(later))


def _expect(reply: tuple[int, bytes], refused: Callable[[int, bytes], Exception]) -> None:
    if reply[0] >= _OK:
        raise refused(*reply)


def _message(channel: Mailing, letter: Letter, at: datetime) -> EmailMessage:
    message = EmailMessage(policy=SMTP.clone(cte_type="7bit"))  # not every relay takes eight bits (RFC 6152)
    message["Subject"] = letter.subject
    message["From"] = channel.from_
    message["To"] = ", ".join(channel.to)
    message["Date"] = format_datetime(at)
    message["Message-ID"] = letter.mark or channel.mark
    threads = _threads(channel, letter)
    if threads:
        message["References"] = " ".join(threads)
        if len(threads) == 1:
            message["In-Reply-To"] = threads[0]
    message["Auto-Submitted"] = "auto-generated"  # RFC 3834: no out-of-office answers, please
    message.set_content(letter.text)
    message.add_alternative(letter.html, subtype="html")
    for one in letter.attachments:
        message.add_attachment(one.content, maintype="application", subtype="octet-stream", filename=one.name)
    return message


def _threads(channel: Mailing, letter: Letter) -> list[str]:
    """What the letter belongs to (RFC 5322 section 3.6.4): one thread for each source, whose root is never sent."""
    sources = sorted({event.source for event in letter.events if event.source})
    roots = [hashlib.sha256(source.encode()).hexdigest()[:24] for source in sources[:_THREADS]]
    return [f"<source.{root}@{channel.domain}>" for root in roots]


def _plain(text: bytes | str) -> str:
    """What a relay says, fit for eyes."""
    told = text if isinstance(text, str) else text.decode("utf-8", "replace")
    return visible(told, " ")
