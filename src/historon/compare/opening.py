"""What can be read in the parts of an export, and what nobody can look into."""

import tempfile
from collections.abc import Iterator, Mapping
from contextlib import ExitStack, contextmanager
from dataclasses import dataclass
from io import BytesIO
from itertools import chain
from typing import IO

from historon.compare.archives import ArchiveError, is_archive, unpacked
from historon.store import LARGE, Store
from historon.versions import as_utf8, is_binary, too_large

__all__ = ["Opened", "large_archives", "opened", "searchable"]

_DEEPEST = 3
_ROOM = 2 * LARGE
_TOO_LARGE = "is too large to be examined"


@dataclass(frozen=True)
class Opened:
    """A part, with the texts in it by their names, and by name what cannot be looked into, with the reason.

    `members` says whether a part that cannot be looked into may have members, as far as anybody knows.
    """

    name: str
    texts: Mapping[str, bytes]
    closed: Mapping[str, str]
    members: bool = False


def opened(parts: Mapping[str, bytes], large: Mapping[str, IO[bytes]] | None = None) -> Iterator[Opened]:
    """Look into each part, also into archives; into those of more than 16 MiB only where `large` has them as files.

    Archives in archives are opened, to a depth of three and as many bytes as two large parts have; texts are in UTF-8.
    """
    for name, content in parts.items():
        file: IO[bytes] | None = None
        if too_large(content):
            file = (large or {}).get(name)
        elif is_archive(content):
            file = BytesIO(content)
        try:
            inside = unpacked(name, file) if file else {name: content}
        except ArchiveError as exc:
            yield Opened(name, {} if is_binary(content) else {name: content}, {name: str(exc)}, members=True)
            continue
        closed = {member: _TOO_LARGE for member, text in inside.items() if too_large(text)}
        if file:
            closed |= _open_within(inside)
        texts = {member: as_utf8(text) for member, text in inside.items()}
        readable = {member: text for member, text in texts.items() if not is_binary(text)}
        yield Opened(name, readable, closed, members=large is None)


def _open_within(inside: dict[str, bytes]) -> dict[str, str]:
    """Put what is in archives among the members of one in their place; what cannot be opened, by name, and why."""
    closed = {}
    room = _ROOM
    waiting = [(name, 1) for name, content in inside.items() if not too_large(content) and is_archive(content)]
    while waiting:
        name, depth = waiting.pop()
        if depth >= _DEEPEST or room <= 0:
            closed[name] = "is packed too deeply to be examined" if depth >= _DEEPEST else _TOO_LARGE
            continue
        try:
            members = unpacked(name, BytesIO(inside[name]))
        except ArchiveError as exc:
            closed[name] = str(exc)
            continue
        del inside[name]
        inside |= members
        room -= sum(map(len, members.values()))
        closed |= {member: _TOO_LARGE for member, text in members.items() if too_large(text)}
        waiting += [(one, depth + 1) for one, text in members.items() if not too_large(text) and is_archive(text)]
    return closed


@contextmanager
def large_archives(store: Store, source: str, number: int) -> Iterator[dict[str, IO[bytes]]]:
    """Those parts of a version that are archives of more than 16 MiB, as files, which are gone afterwards."""
    with ExitStack() as files:
        found: dict[str, IO[bytes]] = {}
        for part in store.parts(source, number):
            pieces = store.pieces(part)
            if part.size > LARGE and is_archive(head := next(pieces)):
                file = files.enter_context(tempfile.TemporaryFile())
                file.writelines(chain([head], pieces))
                found[part.name] = file
        yield found


def searchable(parts: Mapping[str, bytes]) -> Iterator[tuple[str, bytes]]:
    """The texts of an export by their names, also those in archives."""
    for one in opened(parts):
        yield from one.texts.items()
