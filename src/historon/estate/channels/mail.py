"""Mail, over a relay."""

import re
from typing import ClassVar, Literal

from msgspec import field

from historon.estate.channels.channel import Channel, check_trust
from historon.estate.durations import Size
from historon.estate.table import Port

__all__ = ["MailChannel"]


class MailChannel(Channel, frozen=True, kw_only=True):
    """A mail relay and whom it tells (SMTP, RFC 5321; STARTTLS, RFC 3207)."""

    kind: ClassVar[str] = "mail"

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
            raise ValueError("tells nobody (to is empty)")
        check_trust(self.certificate, self.authority)
        if self.security == "none" and self.credentials:
            raise ValueError('would send its password in the clear (set security = "starttls" or "tls")')

    @property
    def goes_to(self) -> str:
        """See Channel."""
        return f"{', '.join(self.to)} through {self.server}"
