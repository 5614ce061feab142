"""What the administrator writes, typed. Every class here is a table of the estate file, every field a key of it."""

import re
from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import Annotated, Literal, Self
from zoneinfo import ZoneInfo, ZoneInfoNotFoundError

from msgspec import UNSET, Meta, Struct, UnsetType, field

from historon.estate.durations import Duration, Size
from historon.estate.secrets import SecretRef

__all__ = [
    "Credentials",
    "Defaults",
    "Estate",
    "EstateFile",
    "MailChannel",
    "Pattern",
    "Procedure",
    "Retention",
    "Settings",
    "Source",
    "Step",
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


class Pattern(str):
    """A regular expression, compiled over bytes because exports are bytes."""

    __slots__ = ("compiled",)
    compiled: re.Pattern[bytes]

    @classmethod
    def parse(cls, text: object) -> Self:
        """Check the expression; ValueError says where it is wrong."""
        if not isinstance(text, str) or not text:
            raise ValueError("expected a regular expression in quotes")
        try:
            compiled = re.compile(text.encode(), re.MULTILINE)
        except re.error as exc:
            raise ValueError(
                f"not a regular expression: {exc} (use 'single quotes' so that \\ stays as it is)"
            ) from exc
        made = cls(text)
        made.compiled = compiled
        return made


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


class Table(Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    """Common to all tables: immutable, and a key that is not known is a mistake."""


class Settings(Table, frozen=True):
    """`[estate]`: the whole."""

    name: str
    time_zone: Zone = Zone("UTC")
    store: str = "store"
    sources_from: str | None = None
    known_hosts: str = "known_hosts"
    at_once: Count = 20
    mount: str | None = None
    free: Size = Size(100 * 10**6)


class Credentials(Table, frozen=True):
    """`[credentials.NAME]`: an account, with its secrets by reference."""

    user: str
    password: SecretRef | None = None
    key: SecretRef | None = None
    passphrase: SecretRef | None = None


class Retention(Table, frozen=True):
    """`[retention.NAME]`: how long which versions stay; a bucket keeps the last version of hour, day and so on."""

    all: Duration | None = None
    hour: Duration | None = None
    day: Duration | None = None
    week: Duration | None = None
    month: Duration | None = None
    year: Duration | None = None
    at_least: Count = 5
    suspect: Duration = Duration(days=30)

    def __post_init__(self) -> None:
        """A retention without any duration would thin every history down to its floor."""
        if not any((self.all, self.hour, self.day, self.week, self.month, self.year)):
            raise ValueError('says only how few to keep (add at least one duration, such as all = "90d")')


_VERBS = ("send", "keep", "pull", "tidy")


class Step(Table, frozen=True):
    """One step of a procedure: exactly one of the verbs `send`, `keep`, `pull`, `tidy`."""

    send: str | tuple[str, ...] | None = None
    keep: str | tuple[str, ...] | None = None
    pull: str | None = None
    tidy: str | tuple[str, ...] | None = None
    as_: str | None = field(default=None, name="as")
    ends_with: str | None = None
    min_size: Size | None = None
    deadline: Duration | None = None

    def __post_init__(self) -> None:
        """One verb a step, and names only for what is kept."""
        if len([verb for verb in _VERBS if getattr(self, verb) is not None]) != 1:
            raise ValueError(f"a step has exactly one of {', '.join(_VERBS[:-1])} and {_VERBS[-1]}")
        if not self.keeps and (self.as_ or self.ends_with or self.min_size):
            raise ValueError(f"{self.verb} keeps nothing, so it takes no as, ends_with or min_size (use keep)")
        if self.keep is not None and not self.as_:
            raise ValueError('keep needs a name for the part (add as = "running.cfg")')

    @property
    def verb(self) -> str:
        """Which of the verbs this step is."""
        return next(verb for verb in _VERBS if getattr(self, verb) is not None)

    @property
    def keeps(self) -> bool:
        """Whether parts come of this step."""
        return self.verb in ("keep", "pull")

    @property
    def says(self) -> str | tuple[str, ...]:
        """What is said to the source, or the path that is pulled."""
        said: str | tuple[str, ...] = getattr(self, self.verb)
        return said

    def __str__(self) -> str:
        said = self.says if isinstance(self.says, str) else " ".join(self.says)
        return f"{self.verb} {said}"


class Procedure(Table, frozen=True):
    """`[procedures.NAME]`: how a kind of source is asked for its export."""

    over: Literal["ssh-shell", "ssh-exec", "local"]
    steps: tuple[Step, ...]
    prompt: Pattern | None = None
    pager: Pattern | None = None
    pager_answer: str = " "
    noise: tuple[Pattern, ...] = ()
    secret: tuple[Pattern, ...] = ()
    errors: tuple[Pattern, ...] | UnsetType = UNSET
    step_deadline: Duration = Duration(seconds=60)
    deadline: Duration = Duration(minutes=10)
    tries: Count = 3
    pause: Duration = Duration(seconds=5)
    max_size: Size = Size(64 * 2**20)

    def __post_init__(self) -> None:
        """What one transport needs and another does not have."""
        if not any(step.keeps for step in self.steps):
            raise ValueError("keeps nothing (at least one step must be keep or pull)")
        shell = self.over == "ssh-shell"
        if shell and self.prompt is None:
            raise ValueError("over ssh-shell needs a prompt (such as prompt = '^[\\w.-]+[>#] ?$')")
        if not shell and (self.prompt or self.pager):
            raise ValueError(f"over {self.over} has no prompt and no pager")
        if shell and any(step.verb == "pull" for step in self.steps):
            raise ValueError("over ssh-shell cannot pull a file (use keep, or over ssh-exec)")
        said = [step.says for step in self.steps if step.verb != "pull"]
        if self.remote and not all(isinstance(one, str) for one in said):
            raise ValueError(f'over {self.over} a command is a text ("display config")')
        if not self.remote and any(isinstance(one, str) for one in said):
            raise ValueError('a local command is a list, as no shell reads it (["program", "argument"])')

    @property
    def remote(self) -> bool:
        """Whether sources are reached over the network, and so need an address and an account."""
        return self.over != "local"


class Defaults(Table, frozen=True):
    """`[defaults]`: what every source has that does not say otherwise."""

    procedure: str | None = None
    port: Port | None = None
    credentials: str | None = None
    retention: str | None = None
    promise: Duration | None = None
    labels: dict[str, str] = {}


class Source(Table, frozen=True):
    """`[[sources]]`: one thing that configurations are collected from."""

    name: Name
    procedure: str
    address: str = ""
    port: Port | None = None
    credentials: str | None = None
    retention: str | None = None
    promise: Duration | None = None
    host_key: str | None = None
    skip: str | None = None
    labels: dict[str, str] = {}


class MailChannel(Table, frozen=True):
    """`[channels.NAME]`: a mail relay and whom it tells (SMTP, RFC 5321; STARTTLS, RFC 3207)."""

    kind: Literal["mail"]
    to: tuple[str, ...]
    from_: str = field(name="from")
    server: str
    port: Port | None = None
    security: Literal["starttls", "tls", "none"] = "starttls"
    credentials: str | None = None
    certificate: str | None = None
    authority: str | None = None
    tell: Literal["always", "changes", "trouble"] = "always"

    def __post_init__(self) -> None:
        """Addresses that mail can be sent to, and no secret sent in the clear."""
        for address in (*self.to, self.from_):
            if not re.fullmatch(r"[^@\s<>,]+@[^@\s<>,]+", address):
                raise ValueError(f'"{address}" is not a mail address')
        if not self.to:
            raise ValueError("tells nobody (to is empty)")
        if self.certificate and self.authority:
            raise ValueError("takes certificate or authority, not both")
        if self.certificate and not re.fullmatch(r"SHA256:([0-9A-Fa-f]{2}:?){32}", self.certificate):
            raise ValueError('certificate must be "SHA256:" and 64 hexadecimal digits')
        if self.security == "none" and self.credentials:
            raise ValueError('would send its password in the clear (set security = "starttls" or "tls")')


class EstateFile(Table, frozen=True):
    """The whole of `historon.toml`."""

    estate: Settings
    defaults: Defaults = Defaults()
    credentials: dict[Name, Credentials] = {}
    retention: dict[Name, Retention] = {}
    procedures: dict[Name, Procedure] = {}
    channels: dict[Name, MailChannel] = {}
    sources: list[Source] = []


@dataclass(frozen=True)
class Estate:
    """All that one Historon looks after, checked: every name that is referred to exists."""

    file: Path
    settings: Settings
    credentials: Mapping[str, Credentials]
    retention: Mapping[str, Retention]
    procedures: Mapping[str, Procedure]
    channels: Mapping[str, MailChannel]
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

    def procedure_of(self, source: Source) -> Procedure:
        """How this source is asked."""
        return self.procedures[source.procedure]

    def retention_of(self, name: str) -> Retention | None:
        """The retention of a source by its name; None where everything stays."""
        source = self.sources.get(name)
        return self.retention[source.retention] if source and source.retention else None
