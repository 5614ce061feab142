"""Exports that are not what they should be, whichever way they are fetched."""

import gzip
import io
import random
import tarfile
import zlib
from collections.abc import Callable

from year.faults import Spoiled
from year.sources import Offer, Source
from year.texts import model_of

__all__ = ["FAULTS"]

_FETCHED = ("file", "program", "paused", "ssh-shell", "telnet", "https", "ssh-exec")
_WRONG = frozenset({"changed", "suspect"})  # what no looking at it can tell from an edit


def _by_itself(source: Source) -> bool:
    return source.post.transport in ("file", "program", "paused", "https", "ssh-exec") and source.post.style != "large"


def _ends(source: Source) -> bool:
    return _by_itself(source) and bool(source.style.end)


def _text(source: Source) -> bool:
    return source.post.transport in _FETCHED and source.style.is_text


def _named(source: Source) -> bool:
    """Whether the export says which device it is of."""
    return _text(source) and _by_itself(source) and b"\nhostname" in source.style.write(source.model)


def _packed(source: Source) -> bool:
    return _by_itself(source) and source.post.style == "archive"


def _file(source: Source) -> bool:
    return source.post.transport in ("file", "program", "paused", "ssh-exec")


def _with(change: Callable[[bytes, random.Random], bytes]) -> Callable[[Offer, Source, random.Random], Offer]:
    """The offer with its only part changed."""

    def spoil(offer: Offer, source: Source, rng: random.Random) -> Offer:
        assert offer.parts is not None
        return Offer({name: change(content, rng) for name, content in offer.parts.items()}, offer.mode)

    return spoil


def _half(content: bytes, _: random.Random) -> bytes:
    return content[: len(content) // 2]


def _cut(content: bytes, rng: random.Random) -> bytes:
    """Before its last line begins."""
    return content[: rng.randrange(1, content.rstrip().rfind(b"\n"))]


def _cut_packed(content: bytes, rng: random.Random) -> bytes:
    return content[: rng.randrange(1, len(content))]


def _flip(content: bytes, rng: random.Random) -> bytes:
    """One bit, so that it does not open any more: a few of the first ones mean nothing."""
    while True:
        at = rng.randrange(len(content))
        made = content[:at] + bytes([content[at] ^ 1 << rng.randrange(8)]) + content[at + 1 :]
        try:
            gzip.decompress(made)
        except (OSError, EOFError, zlib.error):
            return made


def _shrunken(content: bytes, _: random.Random) -> bytes:
    """Its head and its end, and little between."""
    lines = content.splitlines(keepends=True)
    return b"".join([*lines[:4], *lines[-2:]])


def _doubled(content: bytes, _: random.Random) -> bytes:
    return content + content


def _remnants(content: bytes, rng: random.Random) -> bytes:
    lines = content.splitlines(keepends=True)
    at = rng.randrange(8, len(lines) - 8)
    return b"".join([*lines[:at], b"-- more --\r          \r", *lines[at:]])


def _another(offer: Offer, source: Source, rng: random.Random) -> Offer:
    """What another device of the same make would give."""
    other = model_of(f"other-{rng.randrange(1000)}", random.Random(rng.randrange(10**9)))
    return Offer({source.part: source.style.write(other)}, offer.mode)


def _none(offer: Offer, _source: Source, _rng: random.Random) -> Offer:
    return Offer(None, offer.mode)


def _empty_archive(_content: bytes, _: random.Random) -> bytes:
    return gzip.compress(bytes(10240), mtime=0)


def _emptied(content: bytes, _: random.Random) -> bytes:
    """The same members, with nothing in them."""
    made = io.BytesIO()
    with tarfile.open(fileobj=io.BytesIO(content)) as old, tarfile.open(fileobj=made, mode="w:gz") as new:
        for member in old.getmembers():
            member.size = 0
            new.addfile(member)
    return made.getvalue()


def _whole_lines(content: bytes, rng: random.Random) -> bytes:
    """Cut where a line ends, so that it looks like a whole text."""
    lines = content.splitlines(keepends=True)
    return b"".join(lines[: rng.randrange(len(lines) * 55 // 100, len(lines) * 85 // 100)])


def _long_page(content: bytes, _: random.Random) -> bytes:
    """As many lines as the export has, so that it does not look shrunken."""
    rows = b"".join(b"<tr><td>row %d</td></tr>\n" % number for number in range(max(20, content.count(b"\n"))))
    return (
        b"<!DOCTYPE html>\n<html><head><title>Log in</title></head><body><table>\n" + rows + b"</table></body></html>\n"
    )


_PAGE = b"<!DOCTYPE html><html><head><title>503 Service Unavailable</title></head><body><h1>Later</h1></body></html>\n"
_ERRORS = {
    "json": b'{"error": {"code": 500, "message": "internal"}}\n',
    "xml": b"<response status='error'><msg><line>internal</line></msg></response>\n",
}


FAULTS = (
    Spoiled("half of the export", _ends, _with(_half)),
    Spoiled("cut at any byte", _ends, _with(_cut)),
    Spoiled("nothing in it", _by_itself, _with(lambda _content, _rng: b"")),
    Spoiled("blanks alone", _by_itself, _with(lambda content, _rng: b" \n" * (len(content) // 4))),
    Spoiled("zeros after a power cut", _by_itself, _with(lambda content, _rng: bytes(len(content)))),
    Spoiled("an error page instead", _by_itself, _with(lambda _content, _rng: _PAGE)),
    Spoiled("a long page instead", _by_itself, _with(_long_page)),
    Spoiled("an error message instead", _by_itself, _with(lambda _content, _rng: b"Error: the disk is full\n")),
    Spoiled(
        "an error document instead",
        lambda source: _by_itself(source) and source.post.style in ("json", "xml"),
        lambda offer, source, _rng: Offer({source.part: _ERRORS[source.post.style]}, offer.mode),
    ),
    Spoiled("most of it gone", _text, _with(_shrunken), frozenset({"suspect"})),
    Spoiled("written twice", _text, _with(_doubled), _WRONG),
    Spoiled("remnants of paging", lambda source: _text(source) and _by_itself(source), _with(_remnants), _WRONG),
    Spoiled("another device answers", lambda source: _text(source) and _by_itself(source), _another, _WRONG),
    Spoiled("another device answers by its name", _named, _another, frozenset({"suspect"})),
    Spoiled("a bit has rotted in an archive", _packed, _with(_flip)),
    Spoiled("an archive cut off", _packed, _with(_cut_packed)),
    Spoiled("an empty archive", _packed, _with(_empty_archive)),
    Spoiled("an archive of empty files", _packed, _with(_emptied)),
    Spoiled("nothing, compressed", _packed, _with(lambda _content, _rng: gzip.compress(b""))),
    Spoiled("an error page, compressed", _packed, _with(lambda _content, _rng: gzip.compress(_PAGE))),
    Spoiled("an error, compressed", _packed, _with(lambda _content, _rng: gzip.compress(b"Error: no such session\n"))),
    Spoiled("cut between two lines", _ends, _with(_whole_lines)),
    Spoiled("random bytes", _text, _with(lambda content, rng: rng.randbytes(len(content)))),
    Spoiled("a database cut off", lambda source: source.post.style == "database", _with(_half)),
    Spoiled(
        "a flood",
        lambda source: _by_itself(source),
        _with(lambda content, _rng: content * (5 * 2**20 // len(content))),
        frozenset({"failed"}),
    ),
    Spoiled("not there", _file, _none, frozenset({"failed"}), (1, 4)),
    Spoiled(
        "a folder half gone",
        lambda source: source.post.transport == "tree",
        lambda offer, _source, _rng: Offer(
            {name: content for name, content in (offer.parts or {}).items() if name.endswith("main.cfg")}, offer.mode
        ),
        frozenset({"suspect"}),
    ),
    Spoiled("a folder not there", lambda source: source.post.transport == "tree", _none, frozenset({"failed"})),
)
