"""A section of one text put in its place in another."""

from historon.compare import Outline, section_of
from historon.versions import split_lines

__all__ = ["with_section"]


def with_section(present: bytes, wanted: bytes, place: str, outline: str | None = None) -> bytes | None:
    """The present text with what stands under a place of its outline as in the wanted one; None where neither has it.

    What the wanted one lacks goes. A section that is new is put behind the line that stands before it in the wanted
    text, where the present one has that line once; otherwise at the end, but before a last line that both texts share.
    """
    # Both are read as of one kind, as a comparison does: a short text does not tell its own.
    kind = outline or Outline(max(split_lines(present), split_lines(wanted), key=len)).kind
    old, new = (split_lines(section_of(one, place, kind)) for one in (present, wanted))
    if not old and not new:
        return None
    lines = split_lines(present)
    if not old:
        behind = _place_of(lines, split_lines(wanted), new)
        return b"".join([*lines[:behind], *new, *lines[behind:]])
    at = _found(lines, old)
    if at is None:
        return _scattered(lines, old, new)
    return b"".join([*lines[:at], *new, *lines[at + len(old) :]])


def _found(lines: list[bytes], section: list[bytes]) -> int | None:
    """Where a section begins that stands in one piece."""
    ends = len(lines) - len(section) + 1
    return next((at for at in range(ends) if lines[at : at + len(section)] == section), None)


def _scattered(lines: list[bytes], old: list[bytes], new: list[bytes]) -> bytes:
    """Where what stands under the place is in several pieces: all of it goes, and the new comes where the first was."""
    left = list(old)
    kept: list[bytes] = []
    first: int | None = None
    for line in lines:
        if left and line == left[0]:
            del left[0]
            first = len(kept) if first is None else first
        else:
            kept.append(line)
    kept[first or 0 : first or 0] = new
    return b"".join(kept)


def _place_of(lines: list[bytes], wanted: list[bytes], section: list[bytes]) -> int:
    start = _found(wanted, section) or 0
    for before in reversed(wanted[:start]):
        if before.strip() and lines.count(before) == 1:
            return lines.index(before) + 1
    same_end = bool(lines) and bool(wanted) and lines[-1] == wanted[-1]
    return len(lines) - same_end
