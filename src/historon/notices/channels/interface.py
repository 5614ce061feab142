"""What every kind of channel shares: what became of a notice, whom to trust, and the notice for programs."""

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import TYPE_CHECKING

from historon.base.errors import OutsideError
from historon.base.quantities import utc_text
from historon.estate import Estate, Severity

if TYPE_CHECKING:
    import ssl

    from historon.notices.letters import Letter

__all__ = ["LONGEST_ANSWER", "TIMEOUT_S", "NoticeError", "Sent", "as_data", "trusting"]

TIMEOUT_S = 30
LONGEST_ANSWER = 200  # characters of what the other side says


class NoticeError(OutsideError):
    """A notice could not be reported; `conversation` is what was said until then."""

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


def trusting(certificate: str | None, authority: str | None, estate: Estate) -> "ssl.SSLContext":
    """Whom to trust: the one with this certificate, those that an authority vouches for, or those the system trusts.

    Raises NoticeError when the authority's file cannot be used.
    """
    import ssl

    from historon.base.tls import pinned_context

    if certificate:
        return pinned_context(certificate)
    try:
        return ssl.create_default_context(cafile=str(estate.path(authority)) if authority else None)
    except OSError as exc:
        raise NoticeError(
            f"the authority {authority}: {exc.strerror or exc}", hint="check that it is a PEM file"
        ) from exc


def as_data(letter: "Letter", estate: Estate, at: datetime) -> dict[str, object]:
    """The notice for programs, as it is documented in docs/notices.md."""
    severity = min((event.severity for event in letter.events), default=Severity.INFO)
    return {
        "estate": estate.settings.name,
        "subject": letter.subject,
        "severity": severity.word,
        "severity_number": int(severity),
        "at": utc_text(at),
        "events": [event.data for event in letter.events],
        "text": letter.text,
    }
