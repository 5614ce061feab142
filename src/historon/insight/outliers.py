"""Many sources of one kind: what most of them have, and who is odd."""

from collections import Counter
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from itertools import zip_longest

from historon.compare import outline_of
from historon.insight.family import Reader
from historon.store import TreeRecord
from historon.versions import is_binary

__all__ = ["Oddity", "Typical", "typical"]

_MOST = 0.5  # of the sources must have a line for it to be usual
_Line = tuple[str, str, str]  # part, path and line, with placeholders


@dataclass(frozen=True)
class Oddity:
    """What a source has otherwise than most: a line of its `own`, and the `usual` one that it lacks, or one of both.

    `others` is how many of the others have its own line, or where it has none, the usual one.
    """

    source: str
    part: str
    path: str
    own: str
    usual: str
    others: int


@dataclass(frozen=True)
class Typical:
    """The source that is most like all the others, and by source what is odd about it."""

    source: str
    oddities: Mapping[str, Sequence[Oddity]]


def typical(
    contents: Mapping[str, Mapping[str, bytes]], readers: Mapping[str, Reader], outlines: Mapping[str, str | None]
) -> Typical:
    """Hold sources against what most of them have, in time that grows with the number of lines in all.

    By source, `contents` are its parts, fit for eyes, `readers` say what is its own, `outlines` are as in a procedure.
    """
    lines = {source: _lines(parts, readers[source], outlines[source]) for source, parts in contents.items()}
    held = Counter(line for own in lines.values() for line in own)
    usual = {line for line, count in held.items() if count > _MOST * len(lines)}
    oddities = {source: list(_oddities(source, own, usual, held)) for source, own in lines.items()}
    return Typical(min(oddities, key=lambda source: (len(oddities[source]), source)), oddities)


def _oddities(source: str, own: Mapping[_Line, str], usual: set[_Line], held: Mapping[_Line, int]) -> Iterator[Oddity]:
    """Lines of the same path that begin with the same word, one on each side, are one oddity."""
    lacking: dict[tuple[str, str, str], list[_Line]] = {}
    for line in sorted(usual - own.keys()):
        lacking.setdefault(_setting(line), []).append(line)
    extra: dict[tuple[str, str, str], list[_Line]] = {}
    for line in own:
        if line not in usual:
            extra.setdefault(_setting(line), []).append(line)
    for setting in {**extra, **lacking}:
        ours, theirs = extra.get(setting, []), lacking.get(setting, [])
        pairs = min(len(ours), len(theirs))
        for one, other in zip_longest(ours, theirs[:pairs]):
            part, path, _ = one
            yield Oddity(source, part, path, own[one], other[2] if other else "", held[one] - 1)
        for missing in theirs[pairs:]:
            yield Oddity(source, missing[0], missing[1], "", missing[2], held[missing])


def _setting(line: _Line) -> tuple[str, str, str]:
    part, path, text = line
    words = [word for word in text.split() if word not in ("no", "not")]
    return part, path, words[0] if words else ""


def _lines(parts: Mapping[str, bytes], reader: Reader, outline: str | None) -> dict[_Line, str]:
    """Each telling line by what it is with placeholders; the value is the line as it stands."""
    found: dict[_Line, str] = {}
    for name, content in parts.items():
        if is_binary(content) or isinstance(content, TreeRecord):
            continue
        lines = content.splitlines(keepends=True)
        nesting = outline_of(lines, outline)
        for at, line in enumerate(lines):
            if nesting.tells(at):
                text = line.decode("utf-8", "replace").strip()
                path = " / ".join(heading.decode("utf-8", "replace") for heading in nesting.path(at))
                found.setdefault((name, reader.text(path), reader.text(text)), text)
    return found
