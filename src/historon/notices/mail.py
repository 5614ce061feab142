"""Sending mail: SMTP (RFC 5321) over STARTTLS (RFC 3207) or TLS, to a relay whose certificate is verified or pinned."""

import smtplib
import ssl
from datetime import datetime
from email.message import EmailMessage
from email.policy import SMTP
from email.utils import format_datetime, make_msgid

from historon.estate import Estate, MailChannel, SecretError
from historon.notices.letters import Letter
from historon.notices.programs import NoticeError, trusting
from historon.tls import PinError

__all__ = ["send_mail"]

_TIMEOUT_S = 30
_PORTS = {"starttls": 587, "tls": 465, "none": 25}


def send_mail(channel: MailChannel, letter: Letter, estate: Estate, at: datetime) -> str:
    """Send the letter to all of the channel's recipients; raises NoticeError, naming those who were refused."""
    port = channel.port or _PORTS[channel.security]
    place = f"{channel.server} port {port}"
    try:
        with _connect(channel, port, estate) as relay:
            _log_in(relay, channel, estate)
            refused = relay.send_message(_message(channel, letter, at))
    except SecretError as exc:
        raise NoticeError(f"mail through {place}: {exc.message}", hint=exc.hint) from exc
    except smtplib.SMTPAuthenticationError as exc:
        raise NoticeError(
            f"mail through {place}: the relay refuses the log-in ({exc.smtp_code})",
            hint="check the channel's credentials",
        ) from exc
    except smtplib.SMTPRecipientsRefused as exc:
        raise _refused(place, list(exc.recipients)) from exc
    except PinError as exc:
        raise NoticeError(
            f"mail through {channel.server}: its certificate is {exc.shown}, not the pinned one",
            hint="was it renewed? If nobody knows why it changed, somebody may be listening: nothing was sent",
        ) from exc
    except ssl.SSLCertVerificationError as exc:
        raise NoticeError(
            f"mail through {place}: its certificate is not trusted: {exc.verify_message}",
            hint='name its authority (authority = "ca.pem") or pin it (certificate = "SHA256:…")',
        ) from exc
    except (smtplib.SMTPException, OSError) as exc:
        reason = getattr(exc, "strerror", None) or str(exc) or type(exc).__name__
        raise NoticeError(f"mail through {place}: {reason}", hint="check server, port and security") from exc
    if refused:
        raise _refused(place, list(refused))
    return f"accepted by {place} for {', '.join(channel.to)}"


def _refused(place: str, recipients: list[str]) -> NoticeError:
    return NoticeError(f"mail through {place}: refused for {', '.join(recipients)}", hint="check the addresses")


def _connect(channel: MailChannel, port: int, estate: Estate) -> smtplib.SMTP:
    context = trusting(channel.certificate, channel.authority, estate)
    if channel.security == "tls":
        relay: smtplib.SMTP = smtplib.SMTP_SSL(channel.server, port, timeout=_TIMEOUT_S, context=context)
    else:
        relay = smtplib.SMTP(channel.server, port, timeout=_TIMEOUT_S)
    try:
        relay.ehlo()
        if channel.security == "starttls":
            relay.starttls(context=context)
            relay.ehlo()
    except BaseException:
        relay.close()
        raise
    return relay


def _log_in(relay: smtplib.SMTP, channel: MailChannel, estate: Estate) -> None:
    if channel.credentials:
        credentials = estate.credentials[channel.credentials]
        if credentials.password:
            relay.login(credentials.user, credentials.password.resolve(estate.folder).reveal())


def _message(channel: MailChannel, letter: Letter, at: datetime) -> EmailMessage:
    message = EmailMessage(policy=SMTP)
    message["Subject"] = letter.subject
    message["From"] = channel.from_
    message["To"] = ", ".join(channel.to)
    message["Date"] = format_datetime(at)
    message["Message-ID"] = make_msgid(domain=channel.from_.rpartition("@")[2])
    message["Auto-Submitted"] = "auto-generated"  # RFC 3834: no out-of-office answers, please
    message.set_content(letter.text)
    message.add_alternative(letter.html, subtype="html")
    return message
