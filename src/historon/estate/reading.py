"""Reading `historon.toml` and the CSV beside it into one checked Estate."""

import csv
import io
import re
import tomllib
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import replace
from datetime import UTC, datetime
from pathlib import Path as FilePath
from typing import Any, TypeVar
from zoneinfo import ZoneInfo

import msgspec

from historon.estate.checking import (
    EstateError,
    Kinds,
    Parts,
    Path,
    Problem,
    convert,
    extends_problems,
    problems_of,
    reference_problems,
)
from historon.estate.files import Files
from historon.estate.kinds import CHANNELS, COPIES
from historon.estate.model import Estate, EstateFile
from historon.estate.overlaps import overlap_problems, same_device_problems
from historon.estate.procedure_files import joined, shipped_names
from historon.estate.procedure_reading import read_procedures, typed_procedure
from historon.estate.procedures import Procedure
from historon.estate.table import nearest
from historon.estate.table_reading import read_kinds
from historon.estate.timetable_words import understood
from historon.estate.without_effect import problems_without_effect

__all__ = ["read_estate", "read_procedure"]

_COLUMNS = (
    "name",
    "address",
    "port",
    "procedure",
    "credentials",
    "retention",
    "timetable",
    "max_age",
    "host_key",
    "certificate",
    "via",
    "max_shrink",
    "skip",
    "skip_until",
)
T = TypeVar("T")
_TABLES = {"label": "labels", "value": "values"}


def read_estate(file: FilePath, text: str | None = None, *, remembered: Mapping[str, str] | None = None) -> Estate:
    """Read and check the estate file with the files that it names.

    `text` replaces the text of the estate file. `remembered` replaces all files: it is the `texts` of an estate that
    was read before. Raises EstateError with every mistake and its place.
    """
    file = file.absolute()
    files = Files(file.parent, {file.name: text} if text is not None else {}, remembered)
    text = _text_of(file, files)
    data = _toml(file, text)
    problems: list[Problem] = []
    origins = _merge(files, data, problems)
    texts = {"": (file.name, text), **_read_procedures(files, data, problems)}
    _join_procedures(data, problems)
    procedures, wrong_procedures = read_procedures(data.get("procedures"))
    channels, wrong_channels = read_kinds(data.get("channels"), CHANNELS, ("channels",), "channel")
    copies, wrong_copies = read_kinds(data.get("copies"), COPIES, ("copies",), "copy", default="store")
    problems += [*wrong_procedures, *wrong_channels, *wrong_copies]
    kinds = Kinds(procedures, channels, copies)
    typed: EstateFile | None = None
    try:
        typed = convert(data, EstateFile)
    except msgspec.ValidationError:
        problems += problems_of(data, EstateFile)
    parts = Parts.salvage(data, kinds) if typed is None else Parts.of(typed, kinds)
    problems += [*reference_problems(parts), *problems_without_effect(parts)]
    problems += [*overlap_problems(parts), *same_device_problems(parts)]
    if problems or typed is None:
        placed = _placed(_explained(problems, data), file, texts, origins)
        raise EstateError(sorted(placed, key=lambda problem: (problem.file != file.name, problem.line or 0)))
    return Estate(
        file=file,
        settings=typed.estate,
        credentials=typed.credentials,
        jumps=typed.jumps,
        retention=typed.retention,
        timetables=typed.timetables,
        freezes=typed.freezes,
        procedures=_all_right(procedures),
        notices=typed.notices,
        channels=_all_right(channels),
        copies=_all_right(copies),
        requirements=typed.requirements,
        weights=typed.weights,
        budgets=typed.budgets,
        defaults=typed.defaults,
        sources={source.name: source for source in typed.sources},
        texts=files.texts,
    )


def _all_right(tables: Mapping[str, T | None]) -> Mapping[str, T]:
    """Tables of which none is wrong."""
    return {name: one for name, one in tables.items() if one is not None}


def _explained(problems: Sequence[Problem], data: Mapping[str, Any]) -> Iterator[Problem]:
    """The problems; each wrong timetable with what of it is understood."""
    settings = data.get("estate")
    try:
        zone = ZoneInfo(settings["time_zone"] if isinstance(settings, dict) else "UTC")
    except (KeyError, ValueError, OSError, TypeError):
        zone = ZoneInfo("UTC")
    for problem in problems:
        table, *place = problem.path or ("",)
        if table != "timetables" or not place:
            yield problem
            continue
        told = understood(data["timetables"].get(place[0]), zone, datetime.now(UTC))
        yield replace(
            problem, hint=(" " if problem.hint.endswith("?") else ". ").join(filter(None, (problem.hint, told)))
        )


def read_procedure(name: str) -> Procedure:
    """A shipped procedure, with what it extends."""
    procedure, problems = typed_procedure(joined({}, iter([name]))[name])
    if procedure is None:
        raise EstateError(problems)
    return procedure


def _text_of(file: FilePath, files: Files) -> str:
    try:
        return files.read(file.relative_to(files.folder).as_posix())
    except FileNotFoundError as exc:
        hint = "historon new DIR makes an estate; --estate FILE names one elsewhere"
        raise EstateError([], message=f"there is no estate file {file}", hint=hint) from exc
    except (OSError, UnicodeError) as exc:
        raise EstateError([Problem((), f"cannot be read: {exc}", "it must be readable UTF-8 text", str(file))]) from exc


def _toml(file: FilePath, text: str) -> dict[str, Any]:
    try:
        return tomllib.loads(text)
    except tomllib.TOMLDecodeError as exc:
        found = re.search(r"^(.*?)\s*\(at (?:line (\d+), column (\d+)|end of document)\)$", str(exc), re.DOTALL)
        message = f"{found[1]}" if found else str(exc)
        line = int(found[2]) if found and found[2] else text.count("\n") + 1
        column = f"column {found[3]}: " if found and found[3] else ""
        raise EstateError([Problem((), f"{column}{message}", "this is not valid TOML", file.name, line)]) from exc


def _merge(files: Files, data: dict[str, Any], problems: list[Problem]) -> list[tuple[Path, str]]:
    """Lay `[defaults]` under every source and append the CSV's; returns where each source was written."""
    sources = data.get("sources")
    rows: list[tuple[Path, str, dict[str, Any]]] = []
    if isinstance(sources, list):
        rows = [(("sources", i), "", row) for i, row in enumerate(sources) if isinstance(row, dict)]
        if len(rows) < len(sources):
            return [(("sources", i), "") for i in range(len(sources))]
    elif sources is not None:
        return []
    settings = data.get("estate")
    name = settings.get("sources_from") if isinstance(settings, dict) else None
    if isinstance(name, str):
        rows += [((), f"{name}:{line}", row) for line, row in _csv_rows(files, name, problems)]
    defaults = data.get("defaults")
    if isinstance(defaults, dict):
        rows = [(path, origin, _with_defaults(row, defaults)) for path, origin, row in rows]
    data["sources"] = [row for _, _, row in rows]
    return [(path, origin) for path, origin, _ in rows]


def _read_procedures(files: Files, data: dict[str, Any], problems: list[Problem]) -> dict[str, tuple[str, str]]:
    """Take in the procedures of the folder beside the estate file; returns where each was written, and its text."""
    settings = data.get("estate")
    name = settings.get("procedures_from") if isinstance(settings, dict) else None
    procedures = data.setdefault("procedures", {})
    if not isinstance(name, str) or not isinstance(procedures, dict):
        return {}
    if not files.has_folder(name):
        problems.append(Problem(("estate", "procedures_from"), f"{name}: there is no such folder", "create it"))
    texts = {}
    for file in files.procedures_in(name):
        stem = FilePath(file).stem
        try:
            text = _text_of(files.folder / file, files)
            table = _toml(files.folder / file, text)
        except EstateError as exc:
            problems += [replace(problem, file=file) for problem in exc.problems]
            table, text = {}, ""
        if stem in procedures:
            message = f'a second procedure is named "{stem}"'
            problems.append(Problem((), message, "give each its own name", file, 1))
        elif table:
            procedures[stem] = table
            texts[stem] = (file, text)
    return texts


def _join_procedures(data: dict[str, Any], problems: list[Problem]) -> None:
    """Lay each procedure over what it extends, and add the shipped ones that sources name."""
    procedures, sources = data.get("procedures"), data.get("sources")
    if not isinstance(procedures, dict):
        return
    shipped = shipped_names()
    problems += extends_problems(procedures, shipped)
    rows = sources if isinstance(sources, list) else []
    named = (row.get("procedure") for row in rows if isinstance(row, dict))
    wanted = {
        name for name in named if isinstance(name, str)
    }  # what is no name is reported where the tables are checked
    data["procedures"] = joined(procedures, (name for name in shipped if name in wanted))


def _with_defaults(row: dict[str, Any], defaults: dict[str, Any]) -> dict[str, Any]:
    merged = {key: value for key, value in defaults.items() if key in _COLUMNS} | row
    if isinstance(defaults.get("labels"), dict) and isinstance(row.get("labels", {}), dict):
        merged["labels"] = defaults["labels"] | row.get("labels", {})
    return merged


def _csv_rows(files: Files, name: str, problems: list[Problem]) -> Iterator[tuple[int, dict[str, Any]]]:
    """The rows of a CSV of sources as tables, each with its line; an empty cell is a key not given."""
    try:
        text = files.read(name)
        reader = csv.reader(io.StringIO(text, newline=""), strict=True)
        header = [cell.strip() for cell in next(reader, [])]
        bad = list(_header_problems(header, name))
        if bad:
            problems += bad
            return
        for cells in reader:
            if len(cells) > len(header):
                message = f"row {reader.line_num} has {len(cells)} cells for {len(header)} columns"
                problems.append(Problem((), message, 'quote a cell that holds a comma: "a, b"', name, reader.line_num))
            elif any(cell.strip() for cell in cells):
                yield reader.line_num, _csv_row(header, cells)
        if reader.line_num > 1 and not text.endswith(("\n", "\r")):
            message, hint = (
                "the last line has no line feed: was the file cut off?",
                "check that all rows are there, and end the last line",
            )
            problems.append(Problem((), message, hint, name, reader.line_num))
    except (OSError, UnicodeError, csv.Error) as exc:
        reason = "there is no such file" if isinstance(exc, FileNotFoundError) else f"cannot be read: {exc}"
        problems.append(Problem(("estate", "sources_from"), f"{name}: {reason}", "expected CSV text in UTF-8"))


def _header_problems(header: Sequence[str], name: str) -> Iterator[Problem]:
    if "name" not in header:
        yield Problem(
            (),
            'the first row must name the columns, "name" among them',
            f"the columns are {', '.join(_COLUMNS)}, label.…",
            name,
            1,
        )
    for column in header:
        if column not in _COLUMNS and not column.startswith(("label.", "value.")):
            yield Problem(
                (),
                f'column "{column}" is not known',
                nearest(column, (*_COLUMNS, f"label.{column}")),
                name,
                1,
            )


def _csv_row(header: Sequence[str], cells: Sequence[str]) -> dict[str, Any]:
    row: dict[str, Any] = {}
    for column, raw in zip(header, cells, strict=False):
        cell = raw.strip()
        if not cell:
            continue
        table, dot, key = column.partition(".")
        if dot:
            row.setdefault(_TABLES[table], {})[key] = cell
        else:
            row[column] = int(cell) if column == "port" and cell.isdecimal() else cell
    return row


def _placed(
    problems: Iterable[Problem],
    file: FilePath,
    texts: Mapping[str, tuple[str, str]],
    origins: Sequence[tuple[Path, str]],
) -> Iterator[Problem]:
    """Each problem with its file and line: a source from the CSV points into the CSV, a procedure into its file."""
    lines = dict(_lines_of(texts[""][1]))
    for problem in dict.fromkeys(problems):
        path, origin = problem.path, problem.file
        if len(path) > 1 and path[0] == "sources" and isinstance(path[1], int) and path[1] < len(origins):
            original, origin = origins[path[1]]
            path = original + path[2:]
        if len(path) > 1 and path[0] == "procedures" and path[1] in texts:
            name, written = texts[str(path[1])]
            inner = dict(_lines_of(written))
            yield replace(problem, path=path[2:], file=name, line=_line_for(path[2:], inner) or 1)
        elif origin:
            name, _, line = origin.rpartition(":") if not problem.line else (origin, "", str(problem.line))
            yield replace(problem, path=path, file=name, line=int(line))
        else:
            yield replace(problem, path=path, file=file.name, line=_line_for(path, lines))


def _line_for(path: Path, lines: dict[Path, int]) -> int | None:
    for length in range(len(path), 0, -1):
        if path[:length] in lines:
            return lines[path[:length]]
    return None


_HEADER = re.compile(r"\s*(\[\[?)\s*([^\]]+?)\s*\]\]?\s*(#.*)?$")
_KEY = re.compile(r"\s*([A-Za-z0-9_-]+)\s*[.=]")


def _lines_of(text: str) -> Iterator[tuple[Path, int]]:
    """Which line each table and key begins on. tomllib keeps no positions; this reads just enough of the form."""
    table: Path = ()
    counts: dict[str, int] = {}
    quoted = ""
    for number, line in enumerate(text.splitlines(), 1):
        if quoted:
            quoted = "" if line.count(quoted) % 2 else quoted
            continue
        header = _HEADER.match(line)
        if header:
            keys = tuple(
                part.strip().strip("\"'") for part in re.split(r"""\.(?=(?:[^"]*"[^"]*")*[^"]*$)""", header[2])
            )
            if header[1] == "[[":
                counts[header[2]] = counts.get(header[2], -1) + 1
                table = (*keys, counts[header[2]])
            else:
                table = keys
            yield table, number
        elif key := _KEY.match(line):
            yield (*table, key[1]), number
        for mark in ('"""', "'''"):
            quoted = mark if not quoted and line.count(mark) % 2 else quoted
