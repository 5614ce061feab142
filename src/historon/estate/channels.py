"""What every channel has, whatever its kind."""

import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import timedelta
from typing import ClassVar

from msgspec import field

from historon.estate.durations import Duration, Size
from historon.estate.secrets import SecretRef
from historon.estate.subscriptions import Subscription
from historon.estate.table import Table
from historon.estate.timetables import Hours

__all__ = ["CERTIFICATE_PIN", "Attaching", "Channel", "check_trust"]

CERTIFICATE_PIN = re.compile(r"SHA256:([0-9A-Fa-f]{2}:?){32}")


@dataclass(frozen=True)
class Attaching:
    """That parts are attached to its letters: with secrets masked or not, and how many bytes at most in one letter."""

    unmasked: bool
    at_most: Size


class Channel(Table, frozen=True, kw_only=True):
    """`[channels.NAME]`: where people or programs are notified; what more there is to say depends on its kind.

    What is reported is what `tell` says and `except` does not, of sources with the labels of `where`, in the `hours`;
    it waits for the end of `quiet` hours, and for the next instant of the timetable `digest`, unless it is critical.
    """

    kind: ClassVar[str] = ""
    in_html: ClassVar[bool] = False  # whether it takes letters in HTML, too

    tell: Subscription = Subscription("always")
    except_: Subscription = field(default=Subscription(""), name="except")
    where: dict[str, str] = {}
    hours: tuple[Hours, ...] = ()
    quiet: tuple[Hours, ...] = ()
    digest: str | None = None
    immediately: bool = False
    all_well: Duration | None = None

    @property
    def goes_to(self) -> str:
        """Whom or what it tells, as a person reads it."""
        return self.kind

    @property
    def writes_to(self) -> str | None:
        """The file of this machine that it writes, as it is written; None for none."""
        return None

    @property
    def takes(self) -> timedelta:
        """For how long it may go on by its own settings, besides what sending takes."""
        return timedelta()

    @property
    def account(self) -> str | None:
        """The name of the credentials that it logs in with."""
        return None

    @property
    def reads(self) -> Mapping[str, str | None]:
        """The files that its settings name, by the settings: they belong to the estate as its own file does."""
        return {}

    @property
    def letter_templates(self) -> tuple[str | None, str | None]:
        """The files of its own templates for letters, as text and in HTML; None for those that come along."""
        return None, None

    @property
    def attaching(self) -> Attaching | None:
        """Whether parts that changed go with its letters."""
        return None

    @property
    def new_mark(self) -> str:
        """By what a new letter is to be known where it arrives; empty where nothing of the kind is asked for."""
        return ""

    @property
    def secrets(self) -> Sequence[SecretRef | None]:
        """The secrets that it needs."""
        return ()

    def hears(self, kind: str) -> bool:
        """Whether events of this kind are for it at all."""
        return self.tell.means(kind) and not self.except_.means(kind)


def check_trust(certificate: str | None, authority: str | None) -> None:
    """One way to trust the other side, and a fingerprint that is one. Raises ValueError."""
    if certificate and authority:
        raise ValueError("takes certificate or authority, not both")
    if certificate and not CERTIFICATE_PIN.fullmatch(certificate):
        raise ValueError('certificate must be "SHA256:" and 64 hexadecimal digits')
