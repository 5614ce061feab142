"""From plain tables to typed ones, with every mistake found in one go rather than the first alone."""

import difflib
import re
import types
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from typing import Annotated, Any, Self, TypeVar, Union, get_args, get_origin

import msgspec

from historon.errors import ExitCode, HistoronError
from historon.estate.durations import Duration, Size
from historon.estate.model import Credentials, EstateFile, MailChannel, Pattern, Procedure, Retention, Source, Zone
from historon.estate.secrets import SecretRef
from historon.estate.values import missing_values, values_of

__all__ = ["EstateError", "Parts", "Path", "Problem", "convert", "nearest", "problems_of", "reference_problems"]

Path = tuple[str | int, ...]
T = TypeVar("T")
_PARSED: Mapping[type, Callable[[object], object]] = {
    kind: kind.parse for kind in (Duration, Size, SecretRef, Pattern, Zone)
}
_WORDS = {
    "str": "text in quotes", "int": "a whole number", "bool": "true or false", "array": "a list",
    "object": "a table", "null": "nothing", "float": "a number", "datetime": "a date",
}  # fmt: skip


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
        key = "".join(f"[{p + 1}]" if isinstance(p, int) else f".{p}" for p in self.path).lstrip(".")
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


def nearest(word: str, known: Iterable[str]) -> str:
    """A hint with the nearest valid spelling, or with what is valid where nothing is near."""
    names = sorted(known)
    near = difflib.get_close_matches(word.lower(), names, n=1, cutoff=0.5)
    if near:
        return f'did you mean "{near[0]}"?'
    return f"known here: {', '.join(names[:12])}{' …' if len(names) > 12 else ''}" if names else ""


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
    elif origin in (list, tuple) and isinstance(data, list) and _is_table(arguments[0]):
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
            found.append(Problem((*path, key), "this key is not known", nearest(key, fields)))
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
    if match := re.fullmatch(r"Expected `(.+)`, got `(.+)`", text):
        wanted = " or ".join(_WORDS.get(word, word) for word in match[1].split(" | ") if word != "null")
        return f"expected {wanted}, found {_WORDS.get(match[2], match[2])}", ""
    if "Invalid enum value" in text:
        return f'"{data}" is not possible here', nearest(str(data), _choices(kind))
    if "matching regex" in text:
        return "this is not a usable name", "use letters, digits, dots, dashes and underscores"
    if match := re.fullmatch(r"Expected `int` (.+)", text):
        return f"expected a whole number {match[1]}", ""
    message, _, hint = text.partition(" (")
    return message, hint.removesuffix(")")


def _choices(kind: Any) -> list[str]:
    if get_origin(kind) in (Union, types.UnionType):
        return [choice for part in get_args(kind) for choice in _choices(part)]
    return [str(choice) for choice in get_args(kind)]


@dataclass(frozen=True)
class Parts:
    """The parts of an estate file that others refer to; None stands for one that is there and wrong in itself."""

    credentials: Mapping[str, Credentials | None]
    retention: Mapping[str, Retention | None]
    procedures: Mapping[str, Procedure | None]
    channels: Mapping[str, MailChannel | None]
    sources: Sequence[Source | None]

    @classmethod
    def salvage(cls, data: Mapping[str, Any]) -> Self:
        """What can be read of tables that are not all right, so that one mistake does not hide another."""
        sources = data.get("sources")
        return cls(
            credentials=_each(data.get("credentials"), Credentials),
            retention=_each(data.get("retention"), Retention),
            procedures=_each(data.get("procedures"), Procedure),
            channels=_each(data.get("channels"), MailChannel),
            sources=[_source(row) for row in sources] if isinstance(sources, list) else [],
        )


def _each(table: object, kind: type[T]) -> dict[str, T | None]:
    return {name: _attempt(value, kind) for name, value in table.items()} if isinstance(table, dict) else {}


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


def reference_problems(file: EstateFile | Parts) -> Iterator[Problem]:
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
    for name, channel in file.channels.items():
        if channel and channel.credentials and channel.credentials not in file.credentials:
            yield _unknown(("channels", name, "credentials"), channel.credentials, file.credentials)


def _source_problems(source: Source, file: EstateFile | Parts, path: Path) -> Iterator[Problem]:
    if source.procedure not in file.procedures:
        yield _unknown((*path, "procedure"), source.procedure, file.procedures)
    if source.credentials is not None and source.credentials not in file.credentials:
        yield _unknown((*path, "credentials"), source.credentials, file.credentials)
    if source.retention is not None and source.retention not in file.retention:
        yield _unknown((*path, "retention"), source.retention, file.retention)
    if source.host_key and not re.fullmatch(r"SHA256:[A-Za-z0-9+/]{43}=?", source.host_key):
        hint = 'write it as "SHA256:…", the way ssh-keygen -l prints it'
        yield Problem((*path, "host_key"), "is not a host key fingerprint", hint)
    procedure = file.procedures.get(source.procedure)
    values = values_of(source)
    for index, name in missing_values(procedure, values) if procedure else ():
        step: Path = ("procedures", source.procedure, "steps", index)
        if name.startswith("label."):
            yield Problem(
                path,
                f"has no {name}, which the procedure {source.procedure} asks for",
                f'add labels = {{ {name[6:]} = "…" }}',
            )
        else:
            yield Problem(
                step, f"there is no value {{{name}}}", f"{nearest(name, values)} For braces write {{{{ and }}}}"
            )
    if procedure and procedure.remote:
        yield from _remote_problems(source, procedure, file, path)


def _remote_problems(source: Source, procedure: Procedure, file: EstateFile | Parts, path: Path) -> Iterator[Problem]:
    for key in ("address", "credentials"):
        if not getattr(source, key):
            yield Problem(path, f'"{key}" is missing', f"procedures over {procedure.over} need it")
    account = file.credentials.get(source.credentials or "")
    if account and not (account.password or account.key):
        yield Problem(("credentials", source.credentials or ""), "has neither password nor key", "add one by reference")


def _unknown(path: Path, name: str, known: Iterable[str]) -> Problem:
    table = {"procedure": "procedures", "retention": "retention"}.get(str(path[-1]), "credentials")
    return Problem(path, f'there is no "{name}"', nearest(name, known) or f"write a table [{table}.{name}]")
