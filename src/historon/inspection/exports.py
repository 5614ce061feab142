"""Is this export whole, and is it plausible? Every doubt is a sentence; no doubts make a good version."""

import re
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from io import BytesIO
from typing import IO

from msgspec import UNSET

from historon.estate import Keeping, Pattern, Procedure, Share
from historon.inspection.formats import format_of, look_into
from historon.store import LARGE, Part, StoredPart

__all__ = ["Inspection", "Kept", "error_line", "inspect"]

# What devices of many makes answer to a command they do not know or do not allow. As such words may also begin a
# line of a configuration, they are looked for only where an answer begins and ends.
_ERROR = re.compile(
    rb"^\W{0,3}(?:error\b(?![-_./=\[])|invalid (?:command|input|syntax)|unknown command|unrecognized command"
    rb"|syntax error|incomplete command|ambiguous command|command not found|permission denied|access denied"
    rb"|not authori[sz]ed)",
    re.IGNORECASE,
)
_EDGE = 5
_FEW_LINES = 10  # texts with fewer are compared by their size
_FEW_BYTES = 512  # what is smaller may shrink as it likes
_FEW_MEMBERS = 4
_HEAD = 2**16
_ARCHIVES = frozenset({"zip", "tar", "gzip", "xz", "bzip2"})
_TELLING = _ARCHIVES | {"xml", "json", "sqlite"}  # what a part does not become something else from by itself


@dataclass(frozen=True)
class Kept:
    """A part with the step that kept it, which says what a whole one looks like."""

    part: Part
    step: Keeping


@dataclass(frozen=True)
class Earlier:
    """The same part of the last good version; the `content` of one that is large, or did not change, is left out."""

    size: int
    sha256: bytes
    content: bytes


@dataclass
class Inspection:
    """What was found out about an export: `doubts` make it suspect, `unknown` is what could not be looked into."""

    doubts: list[str] = field(default_factory=list)
    unknown: list[str] = field(default_factory=list)


def inspect(
    kept: Sequence[Kept],
    procedure: Procedure,
    before: Mapping[str, StoredPart],
    contents: Mapping[str, bytes],
    max_shrink: Share,
) -> Inspection:
    """Look at every part, whichever step brought it, and at the export as a whole.

    `before` are the parts of the source's last good version, `contents` those of them that differ, but for large ones.
    A part that is equal to one of them byte for byte opened by its own format then.
    """
    found = Inspection()
    if not kept:
        found.doubts.append("the export is empty: there was no file to keep")
        return found
    trees = _trees(kept)
    for one in kept:
        earlier = _earlier(before.get(one.part.name), contents)
        found.doubts += _by_the_step(one, procedure)
        if one.step.is_ == "anything" or (earlier and earlier.sha256 == one.part.sha256):
            continue
        in_tree = id(one.step) in trees
        found.doubts += _empty_or_error(one, procedure, earlier, in_tree=in_tree)
        _open(one, earlier, found, in_tree=in_tree)
        if not in_tree and earlier:
            found.doubts += _shrunk_part(one, earlier, max_shrink)
    for parts in trees.values():
        found.doubts += _shrunk_tree(parts, before, max_shrink)
    return found


def _earlier(part: StoredPart | None, contents: Mapping[str, bytes]) -> Earlier | None:
    if part is None:
        return None
    return Earlier(part.size, part.sha256, contents.get(part.name, b"") if part.size <= LARGE else b"")


def _trees(kept: Sequence[Kept]) -> dict[int, list[Kept]]:
    """The parts of each step that pulled a folder."""
    steps: dict[int, list[Kept]] = {}
    for one in kept:
        steps.setdefault(id(one.step), []).append(one)
    return {step: parts for step, parts in steps.items() if len(parts) > 1}


def _by_the_step(kept: Kept, procedure: Procedure) -> Iterator[str]:
    """What the step itself says of a whole part."""
    name, content, step = kept.part.name, kept.part.edges, kept.step
    if step.ends_with is not None and not _ends_with(last := _last_line(content), step.ends_with):
        yield f'{name} does not end with "{step.ends_with}" but with "{last[:60]}"'
    if step.min_size is not None and kept.part.size < step.min_size:
        yield f"{name} has {kept.part.size} bytes, fewer than {step.min_size}"
    if step.is_ != "anything" and step.verb == "keep" and (line := error_line(content, procedure)) is not None:
        yield f'{name} holds an error: "{line}"'


def _empty_or_error(kept: Kept, procedure: Procedure, earlier: Earlier | None, *, in_tree: bool) -> Iterator[str]:
    """Nothing at all, or nothing but an error. Single empty files of a folder are as they may be."""
    name, content = kept.part.name, kept.part.edges
    if not content.strip():
        if not in_tree and (kept.step.verb == "keep" or earlier is None or earlier.size):
            yield f"{name} is empty"
        return
    if kept.step.verb == "keep":
        return
    looked_at = not in_tree or content.count(b"\n") <= 2 * _EDGE
    line = error_line(content, procedure) if looked_at else None
    if line is not None and not (earlier and error_line(earlier.content[:_HEAD], procedure) == line):
        yield f'{name} holds an error: "{line}"'


def _open(kept: Kept, earlier: Earlier | None, found: Inspection, *, in_tree: bool) -> None:
    """Whether a part opens by its own format, to its last member."""
    name = kept.part.name
    if kept.part.is_tree:
        return  # Historon itself has written it
    look = look_into(name, _file(kept.part), kept.step.is_)
    was = format_of(name, earlier.content[:_HEAD]) if earlier and earlier.content else None
    if look.doubt and kept.step.is_ is None and earlier and not _opened_before(name, earlier):
        look.doubt = ""  # it never was what its name says
    if look.doubt:
        found.doubts.append(f"{name} {look.doubt}")
    elif look.kind == "html" and not in_tree and was != "html" and not name.lower().endswith((".html", ".htm")):
        title = f' ("{look.about[0]}")' if look.about else ""
        found.doubts.append(f"{name} is a web page{title}")
    elif not in_tree and was in _TELLING and look.kind not in (was, "empty") and kept.step.is_ is None:
        found.doubts.append(f"{name} is {look.kind}, and was {was} before")
    if look.unknown:
        found.unknown.append(f"{name} {look.unknown}")


def _opened_before(name: str, earlier: Earlier) -> bool:
    """Whether the part of the last good version opened by its format; of a large one it is taken for granted."""
    return not earlier.content or not look_into(name, BytesIO(earlier.content)).doubt


def _shrunk_part(kept: Kept, earlier: Earlier, most: Share) -> Iterator[str]:
    """How much of a part is gone, by its members if it is an archive, by lines if it is text, else by its size."""
    step, part = kept.step, kept.part
    if step.record_only or step.follows:
        return
    kind = format_of(part.name, part.edges[:_HEAD])
    if kind in _ARCHIVES:
        counts = look_into(part.name, _file(part)).members, _members(part.name, earlier)
        if counts[0] is not None and counts[1] is not None and most.is_exceeded(counts[1], counts[0], _FEW_MEMBERS):
            yield f"{part.name} has {counts[0]} members, and had {counts[1]}"
        return
    if kind in ("binary", "sqlite", "empty"):
        return
    lines, lines_before = _lines(part.pieces()), earlier.content.count(b"\n")
    if lines_before >= _FEW_LINES:
        if most.is_exceeded(lines_before, lines, _FEW_LINES):
            yield f"{part.name} has {lines} lines, and had {lines_before}"
    elif most.is_exceeded(earlier.size, part.size, _FEW_BYTES):
        yield f"{part.name} has {part.size} bytes, and had {earlier.size}"


def _shrunk_tree(parts: Sequence[Kept], before: Mapping[str, StoredPart], most: Share) -> Iterator[str]:
    """How much of a folder is gone, by files and by size."""
    step, names = parts[0].step, [one.part.name for one in parts]
    if step.record_only or step.follows:
        return
    in_folder = all("/" in one.part.name or one.part.is_tree for one in parts)
    base = names[0].partition("/")[0] + "/" if in_folder else ""
    earlier = [part for name, part in before.items() if base and name.startswith(base)]
    files = [one.part for one in parts if base and one.part.name.startswith(base)]
    if most.is_exceeded(len(earlier), len(files), _FEW_MEMBERS):
        yield f"{base} has {len(files)} files, and had {len(earlier)}"
    size, size_before = sum(part.size for part in files), sum(part.size for part in earlier)
    if most.is_exceeded(size_before, size, _FEW_BYTES):
        yield f"{base} has {size} bytes, and had {size_before}"


def _members(name: str, earlier: Earlier) -> int | None:
    return look_into(name, BytesIO(earlier.content)).members if earlier.content else None


def _lines(pieces: Iterator[bytes]) -> int:
    return sum(piece.count(b"\n") for piece in pieces)


def _file(part: Part) -> IO[bytes]:
    """The content as a file; nobody who looks into it closes it."""
    return part.spool or BytesIO(part.content)


def error_line(answer: bytes, procedure: Procedure) -> str | None:
    """The first line of an answer that is an error message: by the procedure's own patterns, or by common ones."""
    if procedure.errors is UNSET:
        found = next((line for line in _edge_lines(answer) if _ERROR.search(line)), None)
    else:
        lines = answer.split(b"\n")
        wrong = [error.compiled for error in procedure.errors]
        found = next((line for line in lines if any(error.search(line) for error in wrong)), None)
    return None if found is None else found.decode("utf-8", "replace").strip()[:120]


def _edge_lines(answer: bytes) -> list[bytes]:
    """The first and the last lines."""
    *first, rest = answer.split(b"\n", _EDGE)
    return first + rest.rsplit(b"\n", _EDGE)[-_EDGE:]


def _ends_with(last: str, wanted: str) -> bool:
    """Whether this is the last line that is wanted, as a text or, behind `pattern:`, as an expression."""
    kind, colon, expression = wanted.partition(":")
    if kind == "pattern" and colon:
        return Pattern.parse(expression).compiled.search(last.encode()) is not None
    return last == wanted.strip()


def _last_line(content: bytes) -> str:
    return content.rstrip().rpartition(b"\n")[2].strip().decode("utf-8", "replace")
