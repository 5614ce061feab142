"""Does a content open by its own format, to its last member? Everything is read as a stream, in bounded memory.

Which format it is, is known by how it begins, by the end of its name, or by what the procedure says (`is`).
"""

import lzma
import re
import sqlite3
import tarfile
import zipfile
import zlib
from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass, field
from io import SEEK_END
from typing import IO
from xml.parsers import expat

import msgspec

from historon.base.formats import ARCHIVES, Format, kind_by_head
from historon.base.packed import Rejoined, TooMuchError, decompressed
from historon.base.quantities import size_text
from historon.inspection.answers import STATE_NAMES, STATE_WORDS, document_error
from historon.versions import as_utf8

__all__ = ["READERS", "Look", "format_of", "kind_of", "look_into"]

_PIECE = 2**18
_BLOCK = 512  # of a tar archive (POSIX.1-2017, pax)
_MOST = 4 * 2**30  # bytes that are unpacked of one archive; what lies beyond is not known
_MOST_MEMBERS = 200_000
_SMALL = 16 * 2**20  # bytes up to which a document is read as a whole
_MOST_TABLES = 1000
_MOST_STEPS = 50_000_000  # of SQLite's machine, for one database
_NAMED = {ending: kind.value for kind in Format for ending in kind.endings}
_LOOKED_AT = 8000  # bytes by which a text is known
_PRINTED = bytes([*range(0x20, 0x100), *b"\t\n\r\f\x08\x1b"])
_STEERING = 0.05
_PAGE = re.compile(rb"\s*(?:<!doctype\s+html|<html[\s>])", re.IGNORECASE)
_TITLE = re.compile(rb"<title[^>]*>([^<]{0,120})", re.IGNORECASE)
# Roots of documents that only say that something went wrong: NETCONF (RFC 6241), SOAP, and what many interfaces use.
_ERROR_ROOTS = frozenset({"error", "errors", "rpc-error", "fault", "exception", "exceptionreport"})


@dataclass
class Look:
    """What was found out about a content.

    `doubt` says why it is not whole, or nothing but an error; `unknown` what could not be looked into. `members` is how
    many an archive has, `rows` how many each table of a database has.
    """

    kind: str
    doubt: str = ""
    unknown: str = ""
    members: int | None = None
    rows: Mapping[str, int] = field(default_factory=dict)
    about: list[str] = field(default_factory=list)


def format_of(name: str, head: bytes) -> str:
    """What a content is by how it begins, else by the end of its name; `text` and `binary` where nothing tells."""
    if not head:
        return "empty"
    found = kind_by_head(head)
    if found:
        return found
    if _PAGE.match(head):
        return "html"
    named = next((kind for ending, kind in _NAMED.items() if name.lower().endswith(ending)), None)
    if named:
        return named
    if head.lstrip(b"\xef\xbb\xbf \t\r\n").startswith(b"<?xml"):
        return "xml"
    return "binary" if _is_binary(head[:_LOOKED_AT]) else "text"


def _is_binary(head: bytes) -> bool:
    """Whether this is no text: zeros, or more of the characters that steer than any text has."""
    head = as_utf8(head)
    return b"\0" in head or len(head.translate(None, _PRINTED)) > len(head) * _STEERING


def kind_of(name: str, content: bytes) -> str:
    """The same of a whole content: also a document of which neither name nor first line tells that it is one."""
    kind = format_of(name, content)
    start = content.lstrip()[:1]
    if kind != "text" or len(content) >= _PIECE:
        return kind
    if start == b"<" and _is_document(content):
        return "xml"
    return "json" if start in (b"{", b"[") and _is_json(content) else kind


def look_into(name: str, file: IO[bytes], said: str | None = None) -> Look:
    """Read a content from its beginning to its end. `file` can seek; `said` is what the procedure says that it is."""
    file.seek(0)
    head = file.read(_PIECE)
    kind = kind_of(name, head)
    if said not in (None, "anything") and (wrong := _unlike(kind, said, head)):
        return Look(kind, f"is not {_article(said)}: {wrong}")
    kind = said if said is not None and said in READERS else kind
    reader = READERS.get(kind)
    found = Look(kind)
    if reader is None:
        return found
    file.seek(0)
    try:
        reader(file, found)
    except TooMuchError as exc:
        found.unknown = f"was inspected up to its first {exc}"
    except RecursionError:
        found.unknown = "is nested too deeply to be inspected"
    except _BROKEN as exc:
        found.doubt = f"is not {_article(kind, whole=True)}: {_reason(exc)}"
    return found


def _is_document(text: bytes) -> bool:
    """Whether a text is a whole document, though neither its name nor its first line says so."""
    try:
        expat.ParserCreate().Parse(text, True)
    except expat.ExpatError:
        return False
    return True


class _CutError(Exception):
    """A content ends before its end, or goes on behind it."""


_BROKEN = (
    _CutError,
    tarfile.TarError,
    zipfile.BadZipFile,
    zipfile.LargeZipFile,
    OSError,
    EOFError,
    ValueError,
    zlib.error,
    lzma.LZMAError,
    NotImplementedError,
    RuntimeError,
    expat.ExpatError,
    sqlite3.Error,
    OverflowError,
    LookupError,
)


def _article(kind: str, *, whole: bool = False) -> str:
    noun = next((one.noun for one in Format if one == kind), f"{kind} file")
    return f"a{' whole' if whole else ''} {noun}"


def _reason(exc: Exception) -> str:
    return " ".join(str(exc).split())[:160] or type(exc).__name__


def _unlike(kind: str, said: str, head: bytes) -> str:
    """Why a content cannot be what it is said to be, by how it begins; empty when it may be."""
    if kind == said or (said in ("xml", "json") and kind == "text"):
        return ""
    if said == "text":
        if kind != "binary" and kind not in ARCHIVES:
            return ""
        return "it has bytes that no text has"
    if kind == "text" or kind == "html":
        first = head.lstrip().split(b"\n", 1)[0][:60].decode("utf-8", "replace").strip()
        return f'it begins with "{first}"'
    return f"it is {_article(kind)}" if kind not in ("binary", "empty") else f"it is {kind}"


# ---- compressed ------------------------------------------------------------------------------------------------------


def _compressed(file: IO[bytes], found: Look) -> None:
    begins_as = kind_by_head(file.read(_BLOCK))
    file.seek(0)
    if begins_as != found.kind:
        raise _CutError("it does not begin like one")
    plain = decompressed(found.kind, file)
    head = plain.read(_PIECE)
    if kind_by_head(head) == "tar" or _ends_at_once(head):
        _read_tar(Rejoined(head, plain, _MOST), found)
    else:
        _exhaust(plain, len(head))


def _ends_at_once(head: bytes) -> bool:
    """Whether this is a tar archive without a member: nothing but its closing blocks of zeros."""
    return len(head) >= 2 * _BLOCK and not head.strip(b"\0")


def _exhaust(plain: IO[bytes], count: int = 0) -> None:
    while piece := plain.read(_PIECE):
        count += len(piece)
        if count > _MOST:
            raise TooMuchError(size_text(_MOST))


# ---- archives --------------------------------------------------------------------------------------------------------


def _plain_tar(file: IO[bytes], found: Look) -> None:
    _read_tar(Rejoined(b"", file, _MOST), found)


def _read_tar(stream: Rejoined, found: Look) -> None:
    """Every member's header, and the bytes that belong to it; at the end a block of zeros."""
    found.members = 0
    with tarfile.open(fileobj=stream, mode="r|", bufsize=_BLOCK * 512, errorlevel=2) as archive:  # type: ignore[call-overload]
        for _ in archive:
            found.members += 1
            archive.members = []  # tarfile would keep all of them
            if found.members > _MOST_MEMBERS:
                raise TooMuchError(f"{_MOST_MEMBERS:,} members")
        end = archive.offset
    # tarfile ends without a word where the archive does, also when its closing block of zeros never came.
    while stream.read(_PIECE):
        pass
    if stream.count < end + _BLOCK:
        raise _CutError("it ends without its closing block")


def _zip(file: IO[bytes], found: Look) -> None:
    with zipfile.ZipFile(file) as archive:
        infos = archive.infolist()
        found.members = len(infos)
        count = 0
        for info in infos[:_MOST_MEMBERS]:
            if info.flag_bits & 1:
                found.unknown = "has encrypted members, which cannot be inspected"
                continue
            with archive.open(info) as member:
                while piece := member.read(_PIECE):
                    count += len(piece)
                    if count > _MOST:
                        raise TooMuchError(size_text(_MOST))
        if len(infos) > _MOST_MEMBERS:
            raise TooMuchError(f"{_MOST_MEMBERS:,} members")


# ---- databases -------------------------------------------------------------------------------------------------------


def _sqlite(file: IO[bytes], found: Look) -> None:
    """By its header (sqlite.org/fileformat2.html, 1.3), and a small one by SQLite's own check."""
    head = file.read(100)
    size = file.seek(0, SEEK_END)
    if len(head) < 100 or kind_by_head(head) != "sqlite":
        raise _CutError("its header is incomplete")
    page = int.from_bytes(head[16:18]) or 1
    page = 65536 if page == 1 else page
    pages = int.from_bytes(head[28:32]) if head[24:28] == head[92:96] else 0
    if size < pages * page or size % page:
        raise _CutError(f"it has {size} bytes, and {pages * page} by its header")
    if size > _SMALL:
        found.unknown = "is too large for a check of its pages; its header and size are right"
        return
    file.seek(0)
    content = bytearray(file.read())
    content[18:20] = b"\1\1"  # one of a write-ahead log is opened only with its log, which has no place in memory
    database = sqlite3.connect(":memory:")
    try:
        database.deserialize(bytes(content))
        steps = iter(range(_MOST_STEPS // 10_000))
        database.set_progress_handler(lambda: int(next(steps, None) is None), 10_000)
        (verdict,) = database.execute("PRAGMA quick_check(1)").fetchone()
        names = [name for (name,) in database.execute("SELECT name FROM sqlite_schema WHERE type = 'table'")]
        found.rows = {name: _rows_of(database, name) for name in names[:_MOST_TABLES]}
    finally:
        database.close()
    if verdict != "ok":
        raise _CutError(str(verdict))


def _rows_of(database: sqlite3.Connection, table: str) -> int:
    quoted = table.replace('"', '""')
    try:
        return int(database.execute(f'SELECT count(*) FROM "{quoted}"').fetchone()[0])  # noqa: S608 (a name, quoted)
    except sqlite3.OperationalError:
        return 0  # of a module that is not here


# ---- documents -------------------------------------------------------------------------------------------------------


def _xml(file: IO[bytes], found: Look) -> None:
    """Well-formed to its end (XML 1.0), and no document that says nothing but that something went wrong."""
    parser = expat.ParserCreate()
    elements: list[str] = []

    def begin(name: str, attributes: Mapping[str, str]) -> None:
        if len(elements) < 4:
            elements.append(name.rpartition(":")[2].lower())
            if len(elements) == 1:
                told = {key.lower(): value.lower() for key, value in attributes.items()}
                found.about += [f'{key}="{told[key]}"' for key in STATE_NAMES if told.get(key) in STATE_WORDS]

    parser.StartElementHandler = begin
    parser.ParseFile(file)
    root = elements[0] if elements else ""
    # <rpc-reply><rpc-error> and <envelope><body><fault> are errors in an envelope.
    inner = elements[1:3] if root in ("rpc-reply", "envelope") else []
    if root in _ERROR_ROOTS or _ERROR_ROOTS & set(inner) or found.about:
        names = [one for one in (*inner, root) if one in _ERROR_ROOTS]
        what = [*names, *found.about, root][0]
        found.doubt = f"is an error document: <{what}>" if what in _ERROR_ROOTS else f"is an error document: {what}"


def _json(file: IO[bytes], found: Look) -> None:
    """RFC 8259, or one document a line; a large one by its brackets, to the last."""
    size = file.seek(0, SEEK_END)
    file.seek(0)
    if size > _SMALL:
        _balanced(file)
        found.unknown = "is too large for a check of every value; its brackets close"
        return
    text = as_utf8(file.read()).removeprefix(b"\xef\xbb\xbf")
    if not text.strip():
        raise _CutError("it is empty")
    try:
        data = msgspec.json.decode(text)
    except (msgspec.DecodeError, ValueError) as exc:
        lines = [line for line in text.split(b"\n") if line.strip()]
        if len(lines) < 2 or not all(_is_json(line) for line in lines):
            raise _CutError(str(exc)) from exc
        return
    if isinstance(data, dict) and (what := document_error(data)):
        found.doubt = f"is an error document: {what}"


def _is_json(line: bytes) -> bool:
    try:
        msgspec.json.decode(line)
    except (msgspec.DecodeError, ValueError):
        return False
    return True


_STRING = re.compile(rb'"[^"\\]*+(?:\\.[^"\\]*+)*+"', re.DOTALL)
_DEPTHS = {ord("["): 1, ord("{"): 1, ord("]"): -1, ord("}"): -1}
_NO_BRACKETS = bytes(byte for byte in range(256) if byte not in _DEPTHS)


def _balanced(file: IO[bytes]) -> None:
    """Every bracket closes, and the last one last."""
    depth, ended = 0, False
    for brackets in _outside_strings(file):
        for one in brackets:
            if ended:
                raise _CutError("it continues after its end")
            depth += _DEPTHS[one]
            ended = depth <= 0
    if not ended:
        raise _CutError("it ends in the middle")


def _outside_strings(file: IO[bytes]) -> Iterator[bytes]:
    """The brackets of a JSON text that stand outside of strings, piece by piece."""
    rest = b""
    while piece := file.read(_PIECE):
        bare = _STRING.sub(b"", rest + piece)
        outside, quote, inside = bare.partition(b'"')
        # Of a string that is not closed yet there counts its quote, and a backslash that escapes what comes next.
        escaping = (len(inside) - len(inside.rstrip(b"\\"))) % 2
        rest = quote + b"\\" * escaping
        yield outside.translate(None, _NO_BRACKETS)
    if rest:
        raise _CutError("it ends in the middle of a text")


def _html(file: IO[bytes], found: Look) -> None:
    title = _TITLE.search(file.read(_PIECE))
    found.about = [title[1].decode("utf-8", "replace").strip()] if title else []


READERS: Mapping[str, Callable[[IO[bytes], Look], None]] = {
    "gzip": _compressed,
    "bzip2": _compressed,
    "xz": _compressed,
    "tar": _plain_tar,
    "zip": _zip,
    "sqlite": _sqlite,
    "xml": _xml,
    "json": _json,
    "html": _html,
}
