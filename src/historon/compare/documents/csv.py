"""Tables: rows by their key, or by number, and columns by their headings."""

import csv
import io
from collections.abc import Iterator, Sequence

from historon.compare.documents.interface import Document, Format, Node, Notation, Plain, without

__all__ = ["Csv"]


class _Csv(Notation):
    """Rows by their key, or by number, and columns by their headings."""

    def listed(self, path: str, name: str, index: int, key: tuple[str, str] | None, *, alone: bool) -> str:
        return f"[{key[0]}={key[1]}]" if key else f"row {index + 1}"


class Csv(Format):
    """Comma-separated values, or with semicolons or tabs, with a row of headings (RFC 4180)."""

    turn = 30

    def claims(self, name: str, start: bytes) -> bool:
        return name.endswith((".csv", ".tsv"))

    def parse(self, content: bytes, xpaths: Sequence[str], pointers: Sequence[str]) -> Document | None:
        text = content.decode("utf-8-sig")
        delimiter = max(",;\t", key=text.partition("\n")[0].count)
        try:
            rows = [row for row in csv.reader(io.StringIO(text, newline=""), delimiter=delimiter, strict=True) if row]
        except csv.Error as exc:
            raise ValueError(str(exc)) from exc
        if len(rows) < 2 or len(header := rows[0]) < 2 or len(set(header)) < len(header):
            return None
        if any(len(row) != len(header) for row in rows):
            return None
        return Document("csv", without(Plain(lists={"": list(_rows(header, rows[1:]))}), pointers), _Csv())


def _rows(header: Sequence[str], rows: Sequence[Sequence[str]]) -> Iterator[Node]:
    for row in rows:
        yield Plain(fields={name: Plain(value=cell) for name, cell in zip(header, row, strict=True)})
