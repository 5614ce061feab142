"""A request to an address."""

from collections.abc import Sequence
from typing import ClassVar

from historon.estate.channels.channel import Channel, check_trust
from historon.estate.secrets import SecretRef

__all__ = ["WebhookChannel"]


class WebhookChannel(Channel, frozen=True, kw_only=True):
    """An address that is sent a request: JSON, or what a template makes of it, signed with a secret (RFC 2104)."""

    kind: ClassVar[str] = "webhook"

    url: SecretRef
    secret: SecretRef | None = None
    template: str | None = None
    content_type: str = "application/json"
    certificate: str | None = None
    authority: str | None = None

    def __post_init__(self) -> None:
        """One way to trust the other side."""
        check_trust(self.certificate, self.authority)

    @property
    def goes_to(self) -> str:
        """See Channel."""
        return f"the address in {self.url}"

    @property
    def secrets(self) -> Sequence[SecretRef | None]:
        """See Channel."""
        return self.url, self.secret
