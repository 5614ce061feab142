"""Writing into the estate file, with everything else in it left as it stands: comments, order, blanks."""

import csv
from collections.abc import Iterable, Mapping, Sequence
from pathlib import Path
from typing import Any

from historon.base.errors import OutsideError, UsageError
from historon.estate.layout import replace_file
from historon.estate.model import Estate
from historon.estate.reading import read_estate
from historon.estate.table import nearest

__all__ = ["add_rules", "add_sources", "read_rows", "set_source_key"]

_TABLES = {"label": "labels", "value": "values"}


def add_sources(estate: Estate, rows: Iterable[Mapping[str, str]], *, dry_run: bool = False) -> str:
    """Append sources to the estate file; returns the text that is appended.

    Keys are those of `[[sources]]`, and `label.NAME` or `value.NAME`. Raises EstateError, and changes nothing, when the
    file would be wrong with them.
    """
    import tomlkit

    document = tomlkit.document()
    tables = tomlkit.aot()
    for row in rows:
        table = tomlkit.table()
        for key, value in row.items():
            outer, dot, inner = key.partition(".")
            if dot and outer in _TABLES:
                table.setdefault(_TABLES[outer], tomlkit.inline_table())[inner] = value
            else:
                table[key] = int(value) if key == "port" and value.isdecimal() else value
        tables.append(table)
    document["sources"] = tables
    added = tomlkit.dumps(document).strip() + "\n"
    text = estate.file.read_text(encoding="utf-8")
    whole = f"{text.rstrip()}\n\n{added}" if text.strip() else added
    read_estate(estate.file, whole)
    if not dry_run:
        replace_file(estate.file, whole.encode())
    return added


def set_source_key(estate: Estate, name: str, key: str, value: str) -> bool:
    """Set a key of a source in the estate file; False, and nothing is changed, when it stands in the CSV."""
    import tomlkit

    document: Any = tomlkit.parse(estate.file.read_text(encoding="utf-8"))
    table = next((one for one in document.get("sources", ()) if one.get("name") == name), None)
    if table is None:
        return False
    table[key] = value
    whole = tomlkit.dumps(document)
    read_estate(estate.file, whole)
    replace_file(estate.file, whole.encode())
    return True


def add_rules(estate: Estate, procedure: str, rules: Iterable[tuple[str, str]], because: str = "") -> str:
    """Add rules, each with the setting that it belongs to (`noise`, `unordered`), to a procedure where it is written.

    Returns the name of that file; `because` stands as a remark beside each. A shipped procedure is extended in the
    estate file under its own name. Raises EstateError, and changes nothing, when the file would be wrong afterwards.
    """
    import tomlkit

    folder = estate.path(estate.settings.procedures_from) if estate.settings.procedures_from else None
    own = folder / f"{procedure}.toml" if folder else None
    file = own if own and own.is_file() else estate.file
    document: Any = tomlkit.parse(file.read_text(encoding="utf-8"))
    table = document if file is own else _procedure_table(document, procedure)
    for setting, rule in rules:
        written = table.get(setting)
        if written is None:
            written = tomlkit.array()
            table[setting] = written
        if rule not in set(written):
            text = tomlkit.string(str(rule), literal="'" not in rule)
            if because:
                written.add_line(text, comment=" ".join(because.split()) or None)
            else:
                written.append(text)
    whole = tomlkit.dumps(document)
    if file is not own:
        read_estate(estate.file, whole)  # of the other file nothing can become wrong: the rules are parsed already
    replace_file(file, whole.encode())
    return file.name


def _procedure_table(document: Any, procedure: str) -> Any:
    import tomlkit

    procedures = document.setdefault("procedures", tomlkit.table(is_super_table=True))
    if procedure not in procedures:
        table = tomlkit.table()
        table["extends"] = procedure
        procedures[procedure] = table
    return procedures[procedure]


def read_rows(file: Path, columns: Mapping[str, str], fixed: Mapping[str, str]) -> list[dict[str, str]]:
    """The rows of any CSV as sources: `columns` names the column for each key, `fixed` gives keys to all.

    OutsideError when the file cannot be read, UsageError when it lacks a column; empty cells are keys not given.
    """
    try:
        with file.open(encoding="utf-8-sig", newline="") as opened:
            sample = opened.read(8192)
            opened.seek(0)
            reader = csv.DictReader(opened, delimiter=_delimiter(sample))
            header = [name.strip() for name in reader.fieldnames or ()]
            reader.fieldnames = header
            rows = list(reader)
    except (OSError, UnicodeError, csv.Error) as exc:
        raise OutsideError(f"{file}: {getattr(exc, 'strerror', None) or exc}", hint="expected CSV in UTF-8") from exc
    wanted = dict(columns) or {name: name for name in header}
    for key, column in wanted.items():
        if column not in header:
            raise UsageError(f'{file.name} has no column "{column}" for {key}', hint=nearest(column, header))
    filled = [row for row in rows if any((cell or "").strip() for cell in _cells(row))]
    return [_row(row, wanted, fixed) for row in filled]


def _delimiter(sample: str) -> str:
    first = sample.partition("\n")[0]
    return max(",;\t", key=first.count)


def _cells(row: Mapping[str, Any]) -> Sequence[str]:
    return [cell for cell in row.values() if isinstance(cell, str)]


def _row(row: Mapping[str, Any], wanted: Mapping[str, str], fixed: Mapping[str, str]) -> dict[str, str]:
    found = {key: str(row.get(column) or "").strip() for key, column in wanted.items()}
    return {**fixed, **{key: value for key, value in found.items() if value}}
