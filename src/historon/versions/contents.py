"""What a version holds, as it is looked at: parts by name, large ones by what stands for them."""

import fnmatch
import re
from io import BytesIO

from historon.base.bounds import begin_on
from historon.store import LARGE, Part, Store, StoredPart, TreeRecord

__all__ = [
    "as_utf8",
    "belongs_to",
    "comparable",
    "contents_of",
    "is_binary",
    "is_called",
    "split_lines",
    "stand_in",
    "stands_for",
    "too_large",
]

_LOOKED_AT = 8000  # bytes by which a text is known
_MARKS = (b"\xff\xfe", b"\xfe\xff")
_FEW_PAIRS, _MOST = 8, 0.9  # of UTF-16 without its mark

_STAND_IN = re.compile(rb"\0(\d+) bytes, SHA-256 ([0-9a-f]{64})\Z")


def comparable(part: Part | StoredPart, store: Store | None = None) -> bytes:
    """The content of a part; of a large one a stand-in, which is binary and equal only where the digests are.

    The metadata of a tree is known by its type, `TreeRecord`.

    One that is stored is read from its `store`.
    """
    if part.size > LARGE:
        return stand_in(part.size, part.sha256)
    if isinstance(part, Part):
        content = part.content
    else:
        assert store is not None  # noqa: S101 (it came from one)
        content = store.read(part)
    return TreeRecord(content) if part.is_tree else content


def contents_of(store: Store, source: str, number: int) -> dict[str, bytes]:
    """What a stored version holds, by the names of its parts, each as it is `comparable`. Raises TooHeavyError."""
    begin_on(f"{source}@{number}")
    return {part.name: comparable(part, store) for part in store.parts(source, number)}


def stand_in(size: int, sha256: bytes) -> bytes:
    """What stands for a content that is too large to be held: binary, and equal only where the digests are."""
    return b"\0%d bytes, SHA-256 %s" % (size, sha256.hex().encode())


def stands_for(content: bytes) -> tuple[int, str] | None:
    """The size in bytes, and the SHA-256 in hexadecimal digits, of what this stands in for; None for anything else."""
    match = _STAND_IN.match(content) if len(content) < 128 else None
    return (int(match[1]), match[2].decode()) if match else None


def too_large(content: bytes) -> bool:
    """Whether this stands in for a part that is too large to be held and looked into."""
    return stands_for(content) is not None


def is_called(name: str, only: str) -> bool:
    """Whether a part of this name is meant by `--only`: the name itself, a folder above it, or a pattern (fnmatch)."""
    return belongs_to(name, only) or fnmatch.fnmatchcase(name, only)


def belongs_to(name: str, whole: str) -> bool:
    """Whether a part is this one, or what is in it."""
    return name == whole or name.startswith(whole.rstrip("/") + "/")


def is_binary(content: bytes) -> bool:
    """Whether this is no text: a NUL byte in its first 8,000."""
    return b"\0" in content[:_LOOKED_AT]


def _utf16(head: bytes) -> str | None:
    """The kind of UTF-16 by its mark (RFC 2781, 3.2), or by the zeros beside letters; None for anything else."""
    if head[:2] in _MARKS:
        return "utf-16"
    pairs = len(head) // 2
    for kind, zeros, letters in (("utf-16-le", head[1::2], head[::2]), ("utf-16-be", head[::2], head[1::2])):
        if pairs >= _FEW_PAIRS and zeros.count(0) > pairs * _MOST and not letters.count(0):
            return kind
    return None


def as_utf8(content: bytes) -> bytes:
    """A text in UTF-16 written in UTF-8; anything else as it is."""
    kind = _utf16(content[:_LOOKED_AT])
    return content.decode(kind, "replace").encode() if kind else content


def split_lines(content: bytes) -> list[bytes]:
    """The lines with their line feeds; the last one may lack its own."""
    return BytesIO(content).readlines()
