"""A section of one text put in its place in another."""

from collections.abc import Iterable, Sequence
from functools import cached_property

from historon.compare import Outline, outline_of, places_under
from historon.versions import split_lines

__all__ = ["with_section"]

_Path = tuple[bytes, ...]


def with_section(present: bytes, wanted: bytes, place: str, outline: str | None = None) -> bytes | None:
    """The present text with what stands under a place of its outline as in the wanted one; None where neither has it.

    What the wanted one lacks goes. What is new comes under the heading that it stands under in the wanted text: behind
    the line that stands before it there, where the present text has that line once, otherwise first; without a heading,
    at the end, but before a last line that both texts share. ValueError where its heading is not there now, or where
    it cannot be put in without moving something else to another heading.
    """
    # Both are read as of one kind, as a comparison does: a short text does not tell its own.
    kind = outline or outline_of(max(split_lines(present), split_lines(wanted), key=len)).kind
    now, to_be = _Section(split_lines(present), kind, place), _Section(split_lines(wanted), kind, place)
    if not now.places and not to_be.places:
        return None
    there = now.by_heading()
    coming: dict[int, list[bytes]] = {}
    for path, places in to_be.by_heading().items():
        at = there[path][0] if path in there else _place_for(now, to_be.outline, places[0])
        coming.setdefault(at, []).extend(to_be.outline.lines[one] for one in places)
    gone = set(now.places)
    merged: list[bytes] = []
    for at, line in enumerate(now.outline.lines):
        merged += coming.get(at, [])
        if at not in gone:
            merged.append(line)
    merged += coming.get(len(now.outline.lines), [])
    made = _Section(_each_ended(merged), kind, place)
    if sorted(made.told()) != sorted(to_be.told()) or made.rest() != now.rest():
        raise ValueError(f'the lines under "{place}" cannot be restored without the rest of the text')
    return b"".join(made.outline.lines)


class _Section:
    """The lines of a text that stand under a place of its outline, and those that do not."""

    def __init__(self, lines: Sequence[bytes], kind: str, place: str) -> None:
        self.outline = outline_of(lines, kind)
        self.places = places_under(self.outline, place)

    def by_heading(self) -> dict[_Path, list[int]]:
        """Its lines by the headings that they stand under: a part of a place may be at several."""
        found: dict[_Path, list[int]] = {}
        inside = set(self.places)
        path: _Path = ()
        for at in self.places:
            begins = self.outline.parent(at) not in inside and not self.outline.closes(self.outline.lines[at])
            if begins or not found:
                path = self.outline.path(at)
            found.setdefault(path, []).append(at)
        return found

    @cached_property
    def _by_text(self) -> dict[bytes, list[int]]:
        found: dict[bytes, list[int]] = {}
        for at, line in enumerate(self.outline.lines):
            found.setdefault(line.strip(), []).append(at)
        return found

    def found(self, path: _Path, line: bytes) -> int | None:
        """Where this line stands in the whole text under these headings, if it does so once."""
        same = self._by_text.get(line.strip(), [])
        found = [at for at in same if self.outline.path(at) == path]
        return found[0] if len(found) == 1 else None

    def told(self) -> list[tuple[_Path, bytes]]:
        """Its lines, with the headings above them as they stand."""
        return self._under_headings(self.places)

    def rest(self) -> list[tuple[_Path, bytes]]:
        """The same of all other lines."""
        inside = set(self.places)
        return self._under_headings(at for at in range(len(self.outline.lines)) if at not in inside)

    def _under_headings(self, places: Iterable[int]) -> list[tuple[_Path, bytes]]:
        return [(self.outline.headings(at), self.outline.lines[at].rstrip(b"\r\n")) for at in places]


def _place_for(now: _Section, to_be: Outline, first: int) -> int:
    """Where in the present text the section goes that begins there in the wanted one."""
    heading = to_be.parent(first)
    for before in range(first - 1, heading, -1):
        if to_be.parent(before) == heading and to_be.tells(before):
            found = now.found(to_be.path(before), to_be.lines[before])
            if found is not None:
                separated = not to_be.tells(first - 1)
                return _behind(now.outline, found, separated=separated)
    if heading >= 0:
        found = now.found(to_be.path(heading), to_be.lines[heading])
        if found is None:
            told = to_be.lines[heading].strip().decode("utf-8", "replace")
            raise ValueError(f'its place "{told}" is missing now, or there more than once')
        return found + 1
    lines = now.outline.lines
    same_end = bool(lines) and bool(to_be.lines) and lines[-1] == to_be.lines[-1]
    return len(lines) - same_end


def _behind(outline: Outline, at: int, *, separated: bool) -> int:
    """The end of what begins with a line: behind all that stands under it, what closes it, and what sets it apart."""
    inside = {at}
    end = at + 1
    while end < len(outline.lines):
        if outline.parent(end) in inside:
            inside.add(end)
        else:
            closes = outline.closes(outline.lines[end])
            sets_apart = separated and not outline.tells(end)
            if not (closes or sets_apart) or outline.parent(end) != outline.parent(at):
                break
        end += 1
    return end


def _each_ended(lines: Sequence[bytes]) -> list[bytes]:
    """Lines of which only the last may lack its end."""
    ended = [line if line.endswith((b"\n", b"\r")) else line + b"\n" for line in lines[:-1]]
    return [*ended, *lines[-1:]]
