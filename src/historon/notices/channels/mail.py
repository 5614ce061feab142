"""The settings of a mail channel; how it is sent is in `historon.notices.smtp`."""

import re
from collections.abc import Mapping, Sequence
from datetime import datetime
from functools import partial
from typing import TYPE_CHECKING, ClassVar, Literal

from msgspec import field

from historon.estate import Attaching, Channel, Estate, Port, Size, check_trust
from historon.notices.channels.interface import Sent, trusting

if TYPE_CHECKING:
    from historon.notices.letters import Letter

__all__ = ["MailChannel", "send"]


class MailChannel(Channel, frozen=True, kw_only=True):
    """A mail relay and whom it tells (SMTP, RFC 5321; STARTTLS, RFC 3207)."""

    kind: ClassVar[str] = "mail"
    in_html: ClassVar[bool] = True

    to: tuple[str, ...]
    from_: str = field(name="from")
    server: str
    port: Port | None = None
    security: Literal["starttls", "tls", "none"] = "starttls"
    credentials: str | None = None
    certificate: str | None = None
    authority: str | None = None
    template: str | None = None
    html_template: str | None = None
    attach: Literal["masked", "unmasked"] | None = None
    attach_at_most: Size = Size(256 * 1000)

    def __post_init__(self) -> None:
        """Addresses that mail can be sent to, and no secret sent in the clear."""
        for address in (*self.to, self.from_):
            if not re.fullmatch(r"[^@\s<>,]+@[^@\s<>,]+", address):
                raise ValueError(f'"{address}" is not a mail address')
        if not self.to:
            raise ValueError("notifies nobody (to is empty)")
        check_trust(self.certificate, self.authority)
        if self.security == "none" and self.credentials:
            raise ValueError('would send its password in the clear (set security = "starttls" or "tls")')

    @property
    def goes_to(self) -> str:
        return f"{', '.join(self.to)} through {self.server}"

    @property
    def account(self) -> str | None:
        return self.credentials

    @property
    def reads(self) -> Mapping[str, str | None]:
        return {"template": self.template, "html_template": self.html_template, "authority": self.authority}

    @property
    def letter_templates(self) -> tuple[str | None, str | None]:
        return self.template, self.html_template

    @property
    def attaching(self) -> Attaching | None:
        if self.attach is None:
            return None
        return Attaching(self.attach == "unmasked", self.attach_at_most)

    @property
    def new_mark(self) -> str:
        """See Channel: a Message-ID (RFC 5322 section 3.6.4)."""
        from email.utils import make_msgid

        return make_msgid(domain=self.domain)

    @property
    def domain(self) -> str:
        """That of the address it comes from."""
        return self.from_.rpartition("@")[2]


def send(channel: MailChannel, letter: "Letter", estate: Estate, at: datetime, remaining: Sequence[str] = ()) -> Sent:
    """Send the letter to the recipients who have not received it yet. Raises NoticeError when none accepted it."""
    from historon.notices.smtp import Mailing, send_mail

    mailing = Mailing(
        channel.server,
        channel.port,
        channel.security,
        channel.from_,
        channel.to,
        channel.domain,
        channel.new_mark,
        trust=partial(trusting, channel.certificate, channel.authority, estate),
        login=partial(_login, channel, estate),
    )
    return send_mail(mailing, letter, at, remaining or channel.to)


def _login(channel: MailChannel, estate: Estate) -> tuple[str, str] | None:
    """The account at the relay. Raises SecretError when its password cannot be fetched."""
    account = estate.credentials[channel.credentials] if channel.credentials else None
    if account is None or account.password is None:
        return None
    return account.user, account.password.resolve(estate.folder).reveal()
