"""From plain tables to typed ones, with every mistake found in one go rather than the first alone."""

import re
import types
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from typing import Annotated, Any, Self, TypeVar, Union, get_args, get_origin

import msgspec

from historon.base.errors import ExitCode, HistoronError
from historon.estate.channels import CERTIFICATE_PIN, Channel
from historon.estate.copies import Copy
from historon.estate.durations import Duration, Share, Size
from historon.estate.legacy import LEGACY
from historon.estate.model import (
    AFTER_ROUNDS,
    Budget,
    Credentials,
    EstateFile,
    Jump,
    Requirement,
    Retention,
    Settings,
    Source,
    Zone,
)
from historon.estate.patterns import Dated, Finder, Noise, Pattern, QuickPattern
from historon.estate.procedures import Procedure
from historon.estate.secrets import SecretRef
from historon.estate.store_place import StorePlace
from historon.estate.subscriptions import Subscription
from historon.estate.table import nearest
from historon.estate.timetables import Cron, Freeze, Hours, Times, Timetable
from historon.estate.values import ACCOUNT_VALUES, BUILT_IN, missing_values, values_of

__all__ = [
    "EstateError",
    "Kinds",
    "Parts",
    "Path",
    "Problem",
    "convert",
    "extends_problems",
    "problems_of",
    "reference_problems",
]

Path = tuple[str | int, ...]
T = TypeVar("T")
_PARSED: Mapping[type, Callable[[object], object]] = {
    kind: kind.parse
    for kind in (
        Duration,
        Size,
        Share,
        SecretRef,
        Pattern,
        QuickPattern,
        Noise,
        Dated,
        Finder,
        StorePlace,
        Zone,
        Times,
        Hours,
        Cron,
        Subscription,
    )
}
_WORDS = {
    "str": "text in quotes",
    "int": "a whole number",
    "bool": "true or false",
    "array": "a list",
    "object": "a table",
    "null": "nothing",
    "float": "a number",
    "datetime": "a date",
}


@dataclass(frozen=True)
class Problem:
    """One mistake in what the administrator wrote: where, what, and the next step."""

    path: Path
    message: str
    hint: str = ""
    file: str = ""
    line: int | None = None

    def __str__(self) -> str:
        place = f"{self.file}:{self.line}" if self.line else self.file
        steps = [f"[{step + 1}]" if isinstance(step, int) else f".{step}" for step in self.path]
        key = "".join(steps).lstrip(".")
        where = " ".join(filter(None, (place, key)))
        return f"{where}: {self.message}" + (f" ({self.hint})" if self.hint else "")


class EstateError(HistoronError):
    """The estate file is wrong; `problems` holds every mistake that was found. It may be that there is no file."""

    exit_code = ExitCode.ESTATE

    def __init__(self, problems: Iterable[Problem], *, message: str = "", hint: str = "") -> None:
        self.problems = list(problems)
        super().__init__(message or "\n".join(map(str, self.problems)), hint=hint)


def convert(data: object, kind: type[T]) -> T:
    """Typed at once, as fast as msgspec is; raises msgspec.ValidationError at the first mistake."""
    return msgspec.convert(data, kind, dec_hook=_parse)


def _parse(kind: type, value: object) -> object:
    return _PARSED[kind](value)


def problems_of(data: object, kind: Any, path: Path = ()) -> Iterator[Problem]:
    """Every mistake in `data` against a msgspec type, walking into tables, lists of tables and named tables."""
    origin, arguments = get_origin(kind), get_args(kind)
    if origin is Annotated and _is_table(arguments[0]):
        kind = arguments[0]
    if isinstance(kind, type) and issubclass(kind, msgspec.Struct) and isinstance(data, dict):
        yield from _table_problems(data, kind, path)
    elif origin is dict and isinstance(data, dict):
        for key, value in data.items():
            yield from _leaf_problems(key, arguments[0], (*path, key))
            yield from problems_of(value, arguments[1], (*path, key))
    elif origin is tuple and Ellipsis not in arguments and isinstance(data, list):
        if len(data) != len(arguments):
            yield Problem(path, f"expected {len(arguments)} values, found {len(data)}", "")
            return
        for index, (value, one) in enumerate(zip(data, arguments, strict=True)):
            yield from problems_of(value, one, (*path, index))
    elif origin in (list, tuple) and isinstance(data, list):
        for index, value in enumerate(data):
            yield from problems_of(value, arguments[0], (*path, index))
    else:
        yield from _leaf_problems(data, kind, path)


def _is_table(kind: object) -> bool:
    return isinstance(kind, type) and issubclass(kind, msgspec.Struct)


def _table_problems(data: dict[str, object], kind: type[msgspec.Struct], path: Path) -> Iterator[Problem]:
    fields = {field.encode_name: field for field in msgspec.structs.fields(kind)}
    found: list[Problem] = []
    for key, value in data.items():
        if key in fields:
            found += problems_of(value, fields[key].type, (*path, key))
        else:
            hint = nearest(key, fields)
            found.append(Problem((*path, key), "this key is not known", hint))
    for name, field in fields.items():
        if field.required and name not in data:
            found.append(Problem(path, f'"{name}" is missing', "add it"))
    yield from found or _leaf_problems(data, kind, path)


def _leaf_problems(data: object, kind: Any, path: Path) -> Iterator[Problem]:
    try:
        convert(data, kind)
    except msgspec.ValidationError as exc:
        yield Problem(path, *_plain(str(exc), data, kind))


def _plain(text: str, data: object, kind: Any) -> tuple[str, str]:
    """Msgspec's message in the words of someone who writes TOML: the problem, and the next step."""
    text = re.sub(r" - at `(key in )?\$.*`$", "", text)
    match = re.fullmatch(r"Expected `(.+)`, got `(.+)`", text)
    if match:
        wanted = " or ".join(_WORDS.get(word, word) for word in match[1].split(" | ") if word != "null")
        return f"expected {wanted}, found {_WORDS.get(match[2], match[2])}", ""
    if "Invalid enum value" in text:
        return f'"{data}" is not possible here', nearest(str(data), _choices(kind))
    if "matching regex" in text:
        return "this name cannot be used", "use letters, digits, dots, dashes and underscores"
    match = re.fullmatch(r"Expected `int` (.+)", text)
    if match:
        return f"expected a whole number {match[1]}", ""
    message, _, hint = text.partition(" (")
    return message, hint.removesuffix(")")


def _choices(kind: Any) -> list[str]:
    if get_origin(kind) in (Union, types.UnionType):
        return [choice for part in get_args(kind) for choice in _choices(part)]
    return [str(choice) for choice in get_args(kind)]


@dataclass(frozen=True)
class Kinds:
    """The tables whose class is known by one of their keys, by their names; None for one that is wrong in itself."""

    procedures: Mapping[str, Procedure | None]
    channels: Mapping[str, Channel | None]
    copies: Mapping[str, Copy | None]


@dataclass(frozen=True)
class Parts:
    """The parts of an estate file that others refer to; None stands for one that is there and wrong in itself."""

    estate: Settings | None
    credentials: Mapping[str, Credentials | None]
    jumps: Mapping[str, Jump | None]
    retention: Mapping[str, Retention | None]
    timetables: Mapping[str, Timetable | None]
    freezes: Sequence[Freeze | None]
    procedures: Mapping[str, Procedure | None]
    channels: Mapping[str, Channel | None]
    copies: Mapping[str, Copy | None]
    requirements: Sequence[Requirement | None]
    budgets: Sequence[Budget | None]
    sources: Sequence[Source | None]

    @classmethod
    def of(cls, file: EstateFile, kinds: Kinds) -> Self:
        """All that stands in a file whose tables are right, but perhaps for those of `kinds`."""
        return cls(
            estate=file.estate,
            credentials=file.credentials,
            jumps=file.jumps,
            retention=file.retention,
            timetables=file.timetables,
            freezes=file.freezes,
            procedures=kinds.procedures,
            channels=kinds.channels,
            copies=kinds.copies,
            requirements=file.requirements,
            budgets=file.budgets,
            sources=file.sources,
        )

    @classmethod
    def salvage(cls, data: Mapping[str, Any], kinds: Kinds) -> Self:
        """What can be read of tables that are not all right, so that one mistake does not hide another."""
        sources = data.get("sources")
        return cls(
            estate=next(iter(_each({"estate": data.get("estate")}, Settings).values()), None),
            credentials=_each(data.get("credentials"), Credentials),
            jumps=_each(data.get("jumps"), Jump),
            retention=_each(data.get("retention"), Retention),
            timetables=_each(data.get("timetables"), Timetable),
            freezes=_list(data.get("freezes"), Freeze),
            procedures=kinds.procedures,
            channels=kinds.channels,
            copies=kinds.copies,
            requirements=_list(data.get("requirements"), Requirement),
            budgets=_list(data.get("budgets"), Budget),
            sources=[_source(row) for row in sources] if isinstance(sources, list) else [],
        )


def _each(table: object, kind: type[T]) -> dict[str, T | None]:
    if isinstance(table, dict):
        return {name: _attempt(value, kind) for name, value in table.items()}
    return {}


def _list(rows: object, kind: type[T]) -> list[T | None]:
    if isinstance(rows, list):
        return [_attempt(row, kind) for row in rows]
    return []


def _source(row: object) -> Source | None:
    """A source, or as much of a wrong one as others are referred to by."""
    whole = _attempt(row, Source)
    if whole or not isinstance(row, dict):
        return whole
    keys = ("name", "procedure", "address", "credentials", "retention")
    return _attempt({key: row[key] for key in keys if isinstance(row.get(key), str)}, Source)


def _attempt(value: object, kind: type[T]) -> T | None:
    try:
        return convert(value, kind)
    except msgspec.ValidationError:
        return None


def reference_problems(file: Parts) -> Iterator[Problem]:
    """Names that are referred to and not there, and what only the whole can tell."""
    names: set[str] = set()
    for index, source in enumerate(file.sources):
        if source is None:
            continue
        path: Path = ("sources", index)
        if source.name in names:
            yield Problem(path, f'a second source is named "{source.name}"', "give each its own name")
        names.add(source.name)
        yield from _source_problems(source, file, path)
    for name, jump in file.jumps.items():
        if jump:
            yield from _jump_problems(name, jump, file)
    for name, channel in file.channels.items():
        if channel:
            yield from _channel_problems(name, channel, file)
    yield from _keeping_problems(file)
    yield from _rule_problems(file)


def _keeping_problems(file: Parts) -> Iterator[Problem]:
    """Of pruning and copies."""
    labels = {label for source in file.sources if source for label in source.labels}
    for name, copy in file.copies.items():
        if copy is None:
            continue  # what is wrong with it is reported already
        if copy.own_retention is not None and copy.own_retention not in file.retention:
            yield _unknown(("copies", name, "retention"), copy.own_retention, file.retention)
        if copy.account is not None and copy.account not in file.credentials:
            yield _unknown(("copies", name, "credentials"), copy.account, file.credentials)
        yield from _reserved_names(name, copy, file)
        for label in copy.labels:
            if label not in labels:
                yield Problem(("copies", name), f'no source has the label "{label}"', nearest(label, labels))
    for key in ("prune", "prove"):
        when = getattr(file.estate, key) if file.estate else ""
        if when not in ("", AFTER_ROUNDS) and when not in file.timetables:
            yield _unknown(("estate", key), when, [AFTER_ROUNDS, *file.timetables])


def _reserved_names(name: str, copy: Copy, file: Parts) -> Iterator[Problem]:
    for index, source in enumerate(file.sources):
        if source is not None and source.name in copy.reserved:
            message = f'the copy {name} has a file of its own that is called "{source.name}"'
            yield Problem(("sources", index, "name"), message, "give the source another name")


def _channel_problems(name: str, channel: Channel, file: Parts) -> Iterator[Problem]:
    path: Path = ("channels", name)
    if channel.account and channel.account not in file.credentials:
        yield _unknown((*path, "credentials"), channel.account, file.credentials)
    if channel.digest and channel.digest not in file.timetables:
        yield _unknown((*path, "digest"), channel.digest, file.timetables)
    if channel.digest and channel.immediately:
        yield Problem(path, "reports immediately or in a digest, not both", "remove immediately or digest")
    yield from _label_problems(channel.where, file, path)


def _rule_problems(file: Parts) -> Iterator[Problem]:
    for index, freeze in enumerate(file.freezes):
        yield from _label_problems(freeze.where if freeze else {}, file, ("freezes", index))
    for index, budget in enumerate(file.budgets):
        yield from _label_problems(budget.where if budget else {}, file, ("budgets", index))
    names: set[str] = set()
    for index, one in enumerate(file.requirements):
        if one is None:
            continue
        path: Path = ("requirements", index)
        if one.name in names:
            yield Problem(path, f'a second requirement is named "{one.name}"', "give each its own name")
        names.add(one.name)
        yield from _label_problems(one.where, file, path)
        if one.procedure is not None and one.procedure not in file.procedures:
            yield _unknown((*path, "procedure"), one.procedure, file.procedures)


def _source_problems(source: Source, file: Parts, path: Path) -> Iterator[Problem]:
    if source.procedure not in file.procedures:
        yield _unknown((*path, "procedure"), source.procedure, file.procedures)
    if source.credentials is not None and source.credentials not in file.credentials:
        yield _unknown((*path, "credentials"), source.credentials, file.credentials)
    if source.retention is not None and source.retention not in file.retention:
        yield _unknown((*path, "retention"), source.retention, file.retention)
    for name in source.timetables:
        if name not in file.timetables:
            yield _unknown((*path, "timetable"), name, file.timetables)
    if source.via is not None and source.via not in file.jumps:
        yield _unknown((*path, "via"), source.via, file.jumps)
    yield from _identity_problems(source, path)
    procedure = file.procedures.get(source.procedure)
    account = file.credentials.get(source.credentials or "")
    if not procedure:
        return
    secrets = [name for name in ACCOUNT_VALUES if getattr(account, name, None)]
    given = values_of(source, procedure, account.user if account else "")
    values = [*(name for name in given if given[name] or name not in ("user", "address")), *secrets]
    for place, name in missing_values(procedure, values):
        yield _missing_value(source, name, values, path, place)
    if procedure.remote:
        yield from _remote_problems(source, procedure, file, path)


def _identity_problems(source: Source | Jump, path: Path) -> Iterator[Problem]:
    if source.host_key and not re.fullmatch(r"SHA256:[A-Za-z0-9+/]{43}=?", source.host_key):
        hint = 'write it as "SHA256:…", the way ssh-keygen -l prints it'
        yield Problem((*path, "host_key"), "is not a host key fingerprint", hint)
    for name in source.legacy:
        if name not in LEGACY:
            yield Problem((*path, "legacy"), f'"{name}" is not an algorithm that can be allowed', nearest(name, LEGACY))
    if isinstance(source, Source):
        if source.certificate and not CERTIFICATE_PIN.fullmatch(source.certificate):
            hint = 'write it as "SHA256:" and 64 hexadecimal digits'
            yield Problem((*path, "certificate"), "is not a certificate fingerprint", hint)
        if source.certificate and source.authority:
            yield Problem(path, "takes certificate or authority, not both")


def _missing_value(source: Source, name: str, values: Sequence[str], path: Path, place: Sequence[str | int]) -> Problem:
    asked = f"which the procedure {source.procedure} needs"
    if name.startswith("label."):
        return Problem(path, f"has no {name}, {asked}", f'add labels = {{ {name[6:]} = "…" }}')
    if name == "address":
        return Problem(path, f"has no address, {asked}", "add address")
    if name == "user":
        lacking = "has credentials without user" if source.credentials else "has no credentials"
        return Problem(path, f"{lacking}, {asked} as {{user}}", "add them")
    if name in ACCOUNT_VALUES:
        message = f"has credentials without {name}, {asked}" if source.credentials else f"has no credentials, {asked}"
        return Problem(path, message, f"add {name} to them by reference")
    step: Path = ("procedures", source.procedure, *(place or ("folder",)))
    return Problem(
        step, f"there is no value {{{name}}}", f"{nearest(name, [*values, *BUILT_IN])} For braces write {{{{ and }}}}"
    )


def _remote_problems(source: Source, procedure: Procedure, file: Parts, path: Path) -> Iterator[Problem]:
    wanted = ("address", "credentials") if procedure.needs_account else ("address",)
    for key in wanted:
        if not getattr(source, key):
            yield Problem(path, f'"{key}" is missing', f"procedures over {procedure.over} need it")
    account = file.credentials.get(source.credentials or "")
    if account and procedure.needs_account:
        place: Path = ("credentials", source.credentials or "")
        if not (account.password or account.key or account.agent):
            yield Problem(place, "has neither password nor key", "add one by reference")
        if not account.user and procedure.needs_user:
            yield Problem(place, '"user" is missing', "add it")
    if source.via is not None and not procedure.over_ssh:
        yield Problem((*path, "via"), f"{procedure.over} has no jump hosts", "jump hosts work over SSH")


def _jump_problems(name: str, jump: Jump, file: Parts) -> Iterator[Problem]:
    if jump.credentials not in file.credentials:
        yield _unknown(("jumps", name, "credentials"), jump.credentials, file.credentials)
    yield from _identity_problems(jump, ("jumps", name))


def _label_problems(where: Mapping[str, str], file: Parts, path: Path) -> Iterator[Problem]:
    """Labels, and values of them, that no source has: nothing would ever be meant."""
    sources = [source for source in file.sources if source is not None]
    labels = {label for source in sources for label in source.labels}
    for label in where:
        if label not in labels:
            yield Problem((*path, "where"), f'no source has the label "{label}"', nearest(label, labels))
    known = sources and len(sources) == len(file.sources) and where.keys() <= labels
    if not known or any(source.has_labels(where) for source in sources):
        return
    for label, value in where.items():
        values = {source.labels[label] for source in sources if label in source.labels}
        if value not in values:
            yield Problem((*path, "where"), f'no source has {label} "{value}"', nearest(value, values))
            return
    yield Problem((*path, "where"), "no source has all of these labels", "compare them with the labels of the sources")


_TABLES = {
    "timetable": "timetables",
    "digest": "timetables",
    "procedure": "procedures",
    "retention": "retention",
    "via": "jumps",
    "extends": "procedures",
}


def _unknown(path: Path, name: str, known: Iterable[str]) -> Problem:
    table = _TABLES.get(str(path[-1]), "credentials")
    return Problem(path, f'there is no "{name}"', nearest(name, known) or f"write a table [{table}.{name}]")


def extends_problems(procedures: object, shipped: Iterable[str]) -> Iterator[Problem]:
    """Procedures that extend what is not there, or one another in a circle; one may extend a shipped namesake."""
    shipped = set(shipped)
    if not isinstance(procedures, dict):
        return
    known = {*procedures, *shipped}
    for name, table in procedures.items():
        base = table.get("extends") if isinstance(table, dict) else None
        if isinstance(base, str):
            if base not in known:
                yield _unknown(("procedures", name, "extends"), base, known)
            elif (base == name and name not in shipped) or _circular(name, procedures):
                yield Problem(("procedures", name, "extends"), "extends itself in a circle", "remove one extends")


def _circular(name: str, procedures: Mapping[str, Any]) -> bool:
    seen, at = {name}, procedures[name].get("extends")
    while isinstance(at, str) and isinstance(procedures.get(at), dict):
        if at in seen:
            return at != name or procedures[name]["extends"] != name
        seen.add(at)
        at = procedures[at].get("extends")
    return False
