"""Which sources a text may stand in, known without reading them: the three-letter pieces of all they ever held.

A signature is a set of numbers, one for each piece of three bytes of what a source's texts hold, capitals taken as
small (Bloom, "Space/time trade-offs in hash coding with allowable errors", 1970). The store keeps them as bits. A text
can stand only where all of its pieces do; where they do it is looked for.
"""

import re
from collections.abc import Iterable, Mapping

from historon.compare.opening import opened, searchable
from historon.compare.texts import stretches_apart

__all__ = ["may_hold", "may_hold_closed", "pieces_of_expression", "pieces_of_text", "signature"]

_NUMBERS = 2**15
_CLOSED = b"\n\n\n"  # a piece that no text has, as none reaches over a line: for a part that cannot be looked into
_PLAIN_RUN = re.compile(rb"(?:[\w ,;:=/@#%&'\"<>!~-]|\\[.()\[\]{}*+?|^$/ -])+")
_ESCAPE = re.compile(rb"\\(.)", re.DOTALL)


def signature(old: Mapping[str, bytes], new: Mapping[str, bytes]) -> bytes:
    """The numbers of what an export holds beyond the one before, two bytes each; equal lines are passed over."""
    places = {_place(_CLOSED)} if any(one.closed for one in opened(new)) else set()
    before = dict(searchable(old))
    fresh: set[bytes] = set()
    for name, content in searchable(new):
        for gone, came in stretches_apart(before.get(name, b""), content):
            fresh |= set(came.split(b"\n")).difference(gone.split(b"\n"))
    places.update(map(_place, _pieces(b"\n".join(fresh).lower())))
    return b"".join(place.to_bytes(2) for place in sorted(places))


def pieces_of_text(text: str) -> set[bytes]:
    """The pieces that a source must hold for this text to stand in it."""
    return _pieces(text.encode().lower())


def pieces_of_expression(expression: str) -> set[bytes]:
    """The same for a regular expression: those of its plain stretches, when it is simple enough to be sure of any."""
    raw = expression.encode()
    if any(mark in raw.replace(b"\\" + mark, b"") for mark in (b"|", b"(", b"[", b"{")):
        return set()
    found: set[bytes] = set()
    for run in _PLAIN_RUN.finditer(raw):
        text = run[0]
        if raw[run.start() - 1 : run.start()] == b"\\":
            text = text[1:]  # the letter of a class such as \d
        if raw[run.end() : run.end() + 1] in (b"?", b"*", b"+", b"{"):
            text = text[:-2] if text[-2:-1] == b"\\" else text[:-1]
        found |= _pieces(_ESCAPE.sub(rb"\1", text).lower())
    return found


def may_hold(bits: bytes, pieces: Iterable[bytes]) -> bool:
    """Whether everything that must be there is there."""
    return all(bits[place >> 3] >> (place & 7) & 1 for place in map(_place, pieces))


def may_hold_closed(bits: bytes) -> bool:
    """Whether a part that nobody could look into may have been among them."""
    return may_hold(bits, {_CLOSED})


def _pieces(text: bytes) -> set[bytes]:
    return {bytes(piece) for piece in set(zip(text, text[1:], text[2:], strict=False)) if 10 not in piece}


def _place(piece: bytes) -> int:
    return int.from_bytes(piece) * 2654435761 >> 9 & (_NUMBERS - 1)
