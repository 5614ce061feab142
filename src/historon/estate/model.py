"""What the administrator writes, typed. Every class here is a table of the estate file, every field a key of it."""

import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Annotated, Literal, Self
from zoneinfo import ZoneInfo, ZoneInfoNotFoundError

from msgspec import Meta, field

from historon.estate.durations import Duration, Share, Size
from historon.estate.patterns import Pattern
from historon.estate.procedures import Procedure, Table
from historon.estate.secrets import SecretRef
from historon.estate.store_place import StorePlace
from historon.estate.subscriptions import Subscription
from historon.estate.timetables import Freeze, Hours, Timetable

__all__ = [
    "AFTER_ROUNDS",
    "CERTIFICATE_PIN",
    "AnyChannel",
    "AnyCopy",
    "CommandChannel",
    "Copy",
    "Credentials",
    "Defaults",
    "Estate",
    "EstateFile",
    "FileChannel",
    "FolderCopy",
    "GitCopy",
    "Jump",
    "MailChannel",
    "Notices",
    "Requirement",
    "Retention",
    "Settings",
    "Source",
    "StoreCopy",
    "SyslogChannel",
    "WebhookChannel",
    "WeightRule",
    "Zone",
]

Name = Annotated[
    str,
    Meta(
        pattern=r"^[A-Za-z0-9][A-Za-z0-9._-]{0,99}$",
        description="letters, digits, dots, dashes and underscores, beginning with a letter or digit",
    ),
]
Port = Annotated[int, Meta(ge=1, le=65535)]
Count = Annotated[int, Meta(ge=1)]
Names = str | tuple[str, ...]
CERTIFICATE_PIN = re.compile(r"SHA256:([0-9A-Fa-f]{2}:?){32}")


class Zone(str):
    """An IANA time zone name such as `Europe/Oslo`."""

    __slots__ = ()

    @classmethod
    def parse(cls, text: object) -> Self:
        """Check that the zone is known to this machine."""
        try:
            ZoneInfo(str(text))
        except (ZoneInfoNotFoundError, ValueError, OSError) as exc:
            raise ValueError(f'"{text}" is not a known time zone (write for example "Europe/Oslo" or "UTC")') from exc
        return cls(text)


AFTER_ROUNDS = "after rounds"


class Settings(Table, frozen=True):
    """`[estate]`: the whole."""

    name: str
    time_zone: Zone = Zone("UTC")
    store: StorePlace = StorePlace("store")
    store_password: SecretRef | None = None
    sources_from: str | None = None
    procedures_from: str | None = None
    known_hosts: str = "known_hosts"
    at_once: Count = 20
    at_once_by: dict[str, Count] = {}
    skew: Duration = Duration(minutes=5)
    index: bool = True
    heartbeat: SecretRef | None = None
    mount: str | None = None
    free: Size = Size(100 * 10**6)
    warn_free: Size = Size(10**9)
    prune: str = ""
    prune_limit: Share = Share(0.25)


class Credentials(Table, frozen=True):
    """`[credentials.NAME]`: an account, with its secrets by reference.

    `certificate` is the file of an OpenSSH certificate for the key; `agent` lets an SSH agent sign.
    """

    user: str = ""
    password: SecretRef | None = None
    key: SecretRef | None = None
    passphrase: SecretRef | None = None
    elevation: SecretRef | None = None
    certificate: str | None = None
    agent: bool = False


class Jump(Table, frozen=True):
    """`[jumps.NAME]`: a host through which sources are reached over SSH (RFC 4254 section 7.2)."""

    address: str
    credentials: str
    port: Port | None = None
    host_key: str | None = None
    at_once: Count | None = None
    legacy: tuple[str, ...] = ()


class Retention(Table, frozen=True):
    """`[retention.NAME]`: how long which versions stay; a bucket keeps the last version of hour, day and so on."""

    all: Duration | None = None
    hour: Duration | None = None
    day: Duration | None = None
    week: Duration | None = None
    month: Duration | None = None
    year: Duration | None = None
    at_least: Count = 5
    at_most: Count | None = None
    noise: Duration | None = None
    suspect: Duration = Duration(days=30)

    def __post_init__(self) -> None:
        """A retention that says neither how long nor how many would thin every history down to its floor."""
        if not self.spans and self.at_most is None:
            raise ValueError('says only how few to keep (add at least one duration, such as all = "90d", or at_most)')
        if self.at_most is not None and self.at_most < self.at_least:
            raise ValueError(f"at_most is less than at_least ({self.at_least})")

    @property
    def spans(self) -> list[Duration]:
        """How long versions stay, by whatever rule."""
        return [one for one in (self.all, self.hour, self.day, self.week, self.month, self.year) if one]


class Defaults(Table, frozen=True):
    """`[defaults]`: what every source has that does not say otherwise."""

    procedure: str | None = None
    port: Port | None = None
    credentials: str | None = None
    retention: str | None = None
    timetable: Names = ()
    max_age: Duration | None = None
    labels: dict[str, str] = {}


class Source(Table, frozen=True):
    """`[[sources]]`: one thing that configurations are collected from."""

    name: Name
    procedure: str
    address: str = ""
    port: Port | None = None
    credentials: str | None = None
    retention: str | None = None
    timetable: Names = ()
    max_age: Duration | None = None
    host_key: str | None = None
    certificate: str | None = None
    authority: str | None = None
    via: str | None = None
    legacy: tuple[str, ...] = ()
    max_shrink: Share | None = None
    skip: str | None = None
    labels: dict[str, str] = {}
    values: dict[str, str] = {}

    @property
    def timetables(self) -> tuple[str, ...]:
        """The names of its timetables."""
        return (self.timetable,) if isinstance(self.timetable, str) else self.timetable

    @property
    def own_names(self) -> tuple[str, ...]:
        """What in a configuration may be this source's own: its name, address and labels."""
        return tuple(filter(None, (self.name, self.address, *self.labels.values())))


class Requirement(Table, frozen=True):
    """`[[requirements]]`: what sources must and must not have.

    Patterns are searched in each line behind its headings, such as `interface port-3 / mtu 1500`, or in documents in
    each value behind its path. With `each` they hold for every section whose path it is found in.
    """

    name: Annotated[str, Meta(min_length=1)]
    where: dict[str, str] = {}
    procedure: str | None = None
    part: str = "*"
    each: Pattern | None = None
    must: tuple[Pattern, ...] = ()
    must_not: tuple[Pattern, ...] = ()
    why: str = ""

    def __post_init__(self) -> None:
        """Something to require."""
        if not self.must and not self.must_not:
            raise ValueError("requires nothing (add must or must_not, each a list of expressions)")


_WeightAndWhy = tuple[Annotated[int, Meta(ge=0, le=9)], str]


class WeightRule(Table, frozen=True):
    """`[[weights]]`: how much it matters that what a pattern finds came, went or was edited, from 0 to 9, and why.

    The pattern is searched in each line behind its headings, such as `interface port-3 / mtu 1500`.
    """

    pattern: Pattern
    about: Literal["access", "secret", "route", "other"] = "other"
    added: _WeightAndWhy = (0, "")
    removed: _WeightAndWhy = (0, "")
    edited: _WeightAndWhy = (0, "")

    def __post_init__(self) -> None:
        """Something that it weighs."""
        if not any(number for number, _ in (self.added, self.removed, self.edited)):
            raise ValueError('weighs nothing (add added, removed or edited, such as added = [9, "opens the plant"])')


class Notices(Table, frozen=True):
    """`[notices]`: how all channels are told.

    `tell_again` is the time until a trouble that lasts is told again; each next time takes twice as long. What could
    not be told is retried for the time of `give_up`; what was told stays on record for that of `keep`.
    """

    tell_again: Duration = Duration(days=1)
    give_up: Duration = Duration(days=3)
    keep: Duration = Duration(days=90)


class Copy(Table, frozen=True, tag_field="kind"):
    """`[copies.NAME]`: a second place for versions, and for how long something may be missing there."""

    path: str
    mount: str | None = None
    max_lag: Duration = Duration(hours=26)

    @property
    def kind(self) -> str:
        """What it is: the tag of its table."""
        return str(self.__struct_config__.tag)


class StoreCopy(Copy, frozen=True, tag="store"):
    """`kind = "store"`: a whole store in a folder."""


class FolderCopy(Copy, frozen=True, tag="folder"):
    """`kind = "folder"`: plain files, named by `pattern`, and the newest also under `latest`."""

    pattern: str = "{source}/{date}T{time}Z/{part}"
    latest: bool = False
    retention: str | None = None

    def __post_init__(self) -> None:
        """A pattern gives each part of each version a name of its own, below the copy's folder."""
        try:
            tried = self.pattern.format(source="s", number=1, date="d", time="t", part="p")
        except (KeyError, IndexError, ValueError, AttributeError) as exc:
            raise ValueError("pattern knows {source}, {number}, {date}, {time} and {part}, and nothing else") from exc
        told = [one for one in ("{source}", "{part}") if one not in self.pattern]
        if told or not ("{number}" in self.pattern or ("{date}" in self.pattern and "{time}" in self.pattern)):
            raise ValueError("pattern must hold {source}, {part}, and {number} or {date} with {time}")
        if tried.startswith("/") or ".." in tried.split("/") or not self.pattern.endswith("{part}"):
            raise ValueError("pattern is a path below the copy's folder, with {part} at its end")


class GitCopy(Copy, frozen=True, tag="git"):
    """`kind = "git"`: a bare git repository, one commit a round."""

    branch: Annotated[str, Meta(pattern=r"^[A-Za-z0-9][A-Za-z0-9._-]*$")] = "main"
    masked: bool = False
    push: str | None = None

    def __post_init__(self) -> None:
        """What git would take for one of its options is none of a remote's names."""
        if self.push is not None and self.push.startswith("-"):
            raise ValueError("push is the address, or the name, of a remote repository")


AnyCopy = StoreCopy | FolderCopy | GitCopy


class Channel(Table, frozen=True, tag_field="kind"):
    """`[channels.NAME]`: where people or programs are told; what more there is to say depends on its kind.

    What is told is what `tell` says and `except` does not, of sources with the labels of `where`, in the `hours`; it
    waits for the end of `quiet` hours, and for the next instant of the timetable `digest`, unless it is critical.
    """

    tell: Subscription = Subscription("always")
    except_: Subscription = field(default=Subscription(""), name="except")
    where: dict[str, str] = {}
    hours: tuple[Hours, ...] = ()
    quiet: tuple[Hours, ...] = ()
    digest: str | None = None
    immediately: bool = False
    all_well: Duration | None = None

    def hears(self, kind: str) -> bool:
        """Whether events of this kind are for it at all."""
        return self.tell.means(kind) and not self.except_.means(kind)


class MailChannel(Channel, frozen=True, kw_only=True, tag="mail"):
    """A mail relay and whom it tells (SMTP, RFC 5321; STARTTLS, RFC 3207)."""

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
        _check_trust(self.certificate, self.authority)
        if self.security == "none" and self.credentials:
            raise ValueError('would send its password in the clear (set security = "starttls" or "tls")')


class WebhookChannel(Channel, frozen=True, kw_only=True, tag="webhook"):
    """An address that is sent a request: JSON, or what a template makes of it, signed with a secret (RFC 2104)."""

    url: SecretRef
    secret: SecretRef | None = None
    template: str | None = None
    content_type: str = "application/json"
    certificate: str | None = None
    authority: str | None = None

    def __post_init__(self) -> None:
        """One way to trust the other side."""
        _check_trust(self.certificate, self.authority)


class SyslogChannel(Channel, frozen=True, kw_only=True, tag="syslog"):
    """A log server (RFC 5424): over UDP (RFC 5426), TCP with octet counting (RFC 6587) or TLS (RFC 5425)."""

    server: str
    port: Port | None = None
    over: Literal["udp", "tcp", "tls"] = "tls"
    facility: Annotated[int, Meta(ge=0, le=23)] = 16
    certificate: str | None = None
    authority: str | None = None

    def __post_init__(self) -> None:
        """Certificates belong to TLS."""
        _check_trust(self.certificate, self.authority)
        if self.over != "tls" and (self.certificate or self.authority):
            raise ValueError(f'over {self.over} there is no certificate (set over = "tls")')


class CommandChannel(Channel, frozen=True, kw_only=True, tag="command"):
    """A program that is given the notice as JSON on its standard input."""

    command: tuple[str, ...]
    deadline: Duration = Duration(seconds=30)

    def __post_init__(self) -> None:
        """A program to run."""
        if not self.command:
            raise ValueError("runs nothing (command is empty)")


class FileChannel(Channel, frozen=True, kw_only=True, tag="file"):
    """A file that gets one JSON object a line for each notice."""

    path: str


AnyChannel = MailChannel | WebhookChannel | SyslogChannel | CommandChannel | FileChannel


def _check_trust(certificate: str | None, authority: str | None) -> None:
    if certificate and authority:
        raise ValueError("takes certificate or authority, not both")
    if certificate and not CERTIFICATE_PIN.fullmatch(certificate):
        raise ValueError('certificate must be "SHA256:" and 64 hexadecimal digits')


class EstateFile(Table, frozen=True):
    """The whole of `historon.toml`."""

    estate: Settings
    defaults: Defaults = Defaults()
    credentials: dict[Name, Credentials] = {}
    jumps: dict[Name, Jump] = {}
    retention: dict[Name, Retention] = {}
    timetables: dict[Name, Timetable] = {}
    freezes: list[Freeze] = []
    procedures: dict[Name, Procedure] = {}
    notices: Notices = Notices()
    channels: dict[Name, AnyChannel] = {}
    copies: dict[Name, AnyCopy] = {}
    requirements: list[Requirement] = []
    weights: list[WeightRule] = []
    sources: list[Source] = []


@dataclass(frozen=True)
class Estate:
    """All that one Historon looks after, checked: every name that is referred to exists."""

    file: Path
    settings: Settings
    credentials: Mapping[str, Credentials]
    jumps: Mapping[str, Jump]
    retention: Mapping[str, Retention]
    timetables: Mapping[str, Timetable]
    freezes: Sequence[Freeze]
    procedures: Mapping[str, Procedure]
    notices: Notices
    channels: Mapping[str, AnyChannel]
    copies: Mapping[str, AnyCopy]
    requirements: Sequence[Requirement]
    weights: Sequence[WeightRule]
    sources: Mapping[str, Source]

    @property
    def folder(self) -> Path:
        """Where the estate file lies; relative paths in it start here."""
        return self.file.parent

    @property
    def zone(self) -> ZoneInfo:
        """The estate's own time zone, in which people read and write instants."""
        return ZoneInfo(self.settings.time_zone)

    def path(self, written: str) -> Path:
        """A path as written in the estate file, made absolute."""
        return self.folder / Path(written).expanduser()

    @property
    def store_folder(self) -> Path | None:
        """The folder of the store; None where it is on a server."""
        return None if self.settings.store.on_server else self.path(self.settings.store)

    @property
    def working_folder(self) -> Path:
        """Where large exports rest while they come in: the store's folder, or the estate's where it is on a server."""
        return self.store_folder or self.folder

    def procedure_of(self, source: Source) -> Procedure:
        """How this source is asked."""
        return self.procedures[source.procedure]
