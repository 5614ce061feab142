"""Formats of exports, by which bytes and names they are known."""

from enum import StrEnum
from typing import Self

__all__ = ["ARCHIVES", "Format", "kind_by_head"]


class Format(StrEnum):
    """What a procedure may say that a part is; how each is opened to its end is in `inspection.formats`.

    `noun` is how messages call it, `begins` the bytes and `endings` the ends of names by which it is known.
    """

    noun: str
    begins: tuple[bytes, ...]
    endings: tuple[str, ...]
    archive: bool

    XML = "xml", "XML document", (), (".xml",)
    JSON = "json", "JSON document", (), (".json",)
    GZIP = "gzip", "gzip file", (b"\x1f\x8b",), (".gz", ".tgz"), True
    BZIP2 = "bzip2", "bzip2 file", (b"BZh",), (".bz2",), True
    XZ = "xz", "xz file", (b"\xfd7zXZ\0",), (".xz", ".txz"), True
    ZIP = "zip", "zip file", (b"PK\x03\x04", b"PK\x05\x06"), (".zip",), True
    TAR = "tar", "tar file", (), (".tar",), True  # its bytes stand further in, see kind_by_head
    SQLITE = "sqlite", "SQLite database", (b"SQLite format 3\0",)
    TEXT = "text", "text"
    ANYTHING = "anything", "part"

    def __new__(
        cls, word: str, noun: str, begins: tuple[bytes, ...] = (), endings: tuple[str, ...] = (), archive: bool = False
    ) -> Self:
        made = str.__new__(cls, word)
        made._value_ = word
        made.noun, made.begins, made.endings, made.archive = noun, begins, endings, archive
        return made


ARCHIVES: frozenset[str] = frozenset(kind for kind in Format if kind.archive)


def kind_by_head(head: bytes) -> str | None:
    """`gzip`, `bzip2`, `xz`, `zip`, `tar` or `sqlite`; None for anything else. It takes the first 262 bytes to tell."""
    kind = next((kind.value for kind in Format if kind.begins and head.startswith(kind.begins)), None)
    return kind or ("tar" if head[257:262] == b"ustar" else None)
