"""A mailbox that exports are sent to."""

from typing import ClassVar

from historon.estate.patterns import QuickPattern
from historon.estate.steps import Clauses
from historon.estate.transports.arriving import Arriving

__all__ = ["Attached", "Mailbox"]


class Attached(Clauses, frozen=True, kw_only=True):
    """Which mails are looked into (RFC 5322)."""

    sender: QuickPattern | None = None
    subject: QuickPattern | None = None


class Mailbox(Arriving, frozen=True, kw_only=True):
    """`over = "mailbox"`: attachments of mails, from a Maildir in `folder` or over IMAP (RFC 9051)."""

    over: ClassVar[str] = "mailbox"
    module: ClassVar[str] = "mailbox"
    port: ClassVar[int] = 993
    by_certificate: ClassVar[bool] = True
    pulling: ClassVar[type[Clauses] | None] = Attached

    mailbox: str = "INBOX"

    def __post_init__(self) -> None:
        """One place to take mails from."""
        super().__post_init__()
        if self.folder is not None and self.mailbox != "INBOX":
            raise ValueError("takes mails from folder or over IMAP from mailbox, not both (remove one)")

    @property
    def remote(self) -> bool:
        """See Procedure: a Maildir is a folder of this machine."""
        return self.folder is None
