"""What the administrator writes, typed. Every class here is a table of the estate file, every field a key of it."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import date, datetime
from pathlib import Path
from typing import Annotated, Any, Literal, Self
from zoneinfo import ZoneInfo, ZoneInfoNotFoundError

from msgspec import Meta

from historon.estate.channels import Channel
from historon.estate.copies import Copy
from historon.estate.durations import Duration, Share, Size
from historon.estate.patterns import Pattern
from historon.estate.procedure_files import shipped_base
from historon.estate.procedures import Procedure
from historon.estate.secrets import SecretRef
from historon.estate.store_place import StorePlace
from historon.estate.table import Count, Name, Port, Table
from historon.estate.timetables import Freeze, Timetable

__all__ = [
    "AFTER_ROUNDS",
    "Budget",
    "Credentials",
    "Defaults",
    "Estate",
    "EstateFile",
    "Jump",
    "Notices",
    "Requirement",
    "Retention",
    "Settings",
    "Source",
    "WeightRule",
    "Zone",
]

Names = str | tuple[str, ...]


def _listed(names: Names) -> tuple[str, ...]:
    return (names,) if isinstance(names, str) else names


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
    prove: str = ""
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
    size: Size | None = None
    noise: Duration | None = None
    suspect: Duration = Duration(days=30)

    def __post_init__(self) -> None:
        """A retention that says neither how long nor how many would thin every history down to its floor."""
        if not self.spans and self.at_most is None and self.size is None:
            hint = 'add at least one duration, such as all = "90d", or at_most, or size'
            raise ValueError(f"has only a floor ({hint})")
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

    @property
    def timetables(self) -> tuple[str, ...]:
        """The names of the timetables of sources that name none."""
        return _listed(self.timetable)


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
    clock: Literal["known wrong"] | None = None
    identity: Literal["shared"] | None = None
    skip: str | None = None
    skip_until: date | None = None
    labels: dict[str, str] = {}
    values: dict[str, str] = {}

    def __post_init__(self) -> None:
        """A skip has a reason."""
        if self.skip_until is not None and self.skip is None:
            raise ValueError("skip_until has no effect without skip (add skip with the reason, or remove it)")

    def has_labels(self, wanted: Mapping[str, str]) -> bool:
        """Whether it has all of these labels, with these values."""
        return all(self.labels.get(label) == value for label, value in wanted.items())

    @property
    def timetables(self) -> tuple[str, ...]:
        """The names of its timetables."""
        return _listed(self.timetable)

    @property
    def own_names(self) -> tuple[str, ...]:
        """What in a configuration may be this source's own: its name, address and labels."""
        return tuple(filter(None, (self.name, self.address, *self.labels.values())))


class Budget(Table, frozen=True):
    """`[[budgets]]`: how many bytes the versions of some sources may take in the store; without `where`, of all."""

    size: Size
    where: dict[str, str] = {}

    @property
    def words(self) -> str:
        """Of which sources it is, as a message says it."""
        labels = ", ".join(f"{label}={value}" for label, value in self.where.items())
        return f" for {labels}" if labels else ""


class Requirement(Table, frozen=True):
    """`[[requirements]]`: what sources must and must not have.

    Patterns are searched in each line behind its headings, such as `interface port-3 / mtu 1500`, or in documents in
    each value behind its path. With `each` they hold for every section whose path it is found in. Each pattern of
    `must` is found in `at_least` so many lines.
    """

    name: Annotated[str, Meta(min_length=1)]
    where: dict[str, str] = {}
    procedure: str | None = None
    part: str = "*"
    each: Pattern | None = None
    must: tuple[Pattern, ...] = ()
    must_not: tuple[Pattern, ...] = ()
    at_least: Annotated[int, Meta(ge=1)] = 1
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
    """`[notices]`: how all channels notify.

    `tell_again` is the time until a trouble that lasts is reported again; each next time takes twice as long. What
    could not be reported is retried for the time of `give_up`; what was reported stays on record for that of `keep`.
    """

    tell_again: Duration = Duration(days=1)
    give_up: Duration = Duration(days=3)
    keep: Duration = Duration(days=90)


class EstateFile(Table, frozen=True):
    """The whole of `historon.toml`."""

    estate: Settings
    defaults: Defaults = Defaults()
    credentials: dict[Name, Credentials] = {}
    jumps: dict[Name, Jump] = {}
    retention: dict[Name, Retention] = {}
    timetables: dict[Name, Timetable] = {}
    freezes: list[Freeze] = []
    procedures: dict[str, Any] = {}  # these and the two below are of kinds, and read apart
    notices: Notices = Notices()
    channels: dict[str, Any] = {}
    copies: dict[str, Any] = {}
    requirements: list[Requirement] = []
    weights: list[WeightRule] = []
    budgets: list[Budget] = []
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
    channels: Mapping[str, Channel]
    copies: Mapping[str, Copy]
    requirements: Sequence[Requirement]
    weights: Sequence[WeightRule]
    budgets: Sequence[Budget]
    defaults: Defaults
    sources: Mapping[str, Source]
    texts: Mapping[str, str]  # the files it was read from, by their names in its folder
    instead: tuple[str, str] | None = None  # why it is in force instead of what the file says: a kind of event, words

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

    @property
    def proof_digests(self) -> dict[str, str]:
        """The digest of the proof of each source that has one, by name."""
        procedures = {source.name: self.procedure_of(source) for source in self.sources.values()}
        return {name: procedure.proof_digest for name, procedure in procedures.items() if procedure.proof}

    def is_skipped(self, source: Source, now: datetime) -> bool:
        """Whether a source is not collected on purpose: until the day of `skip_until` is over, or without an end."""
        until = source.skip_until
        return source.skip is not None and (until is None or now.astimezone(self.zone).date() <= until)

    def requirements_of(self, source: Source) -> list[Requirement]:
        """The rules for a source: by its labels, and by its procedure or one that this extends."""
        lineage = self._lineage(source.procedure)
        labelled = [one for one in self.requirements if source.has_labels(one.where)]
        return [one for one in labelled if one.procedure is None or one.procedure in lineage]

    def _lineage(self, name: str) -> tuple[str, ...]:
        """The names of a procedure and of those that it extends."""
        if all(one.procedure is None for one in self.requirements):
            return ()
        found = [name]
        while (base := self._extended(found[-1])) is not None and base not in found:
            found.append(base)
        return tuple(found)

    def _extended(self, name: str) -> str | None:
        return self.procedures[name].extends if name in self.procedures else shipped_base(name)

    def procedure_of(self, source: Source) -> Procedure:
        """How this source is asked."""
        return self.procedures[source.procedure]
