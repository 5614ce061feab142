"""A log server."""

from typing import Annotated, ClassVar, Literal

from msgspec import Meta

from historon.estate.channels.channel import Channel, check_trust
from historon.estate.table import Port

__all__ = ["SyslogChannel"]


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
        """See Channel."""
        return f"{self.server} over {self.over}"
