"""Is this export whole, and is it plausible? Every doubt is a sentence; no doubts make a good version."""

import hashlib
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from io import BytesIO
from typing import IO

import msgspec

from historon.base.formats import ARCHIVES, Format
from historon.base.quantities import size_text
from historon.compare import ArchiveError, unpacked
from historon.estate import Keeping, Pattern, Procedure, Share, walk
from historon.inspection.answers import error_line, no_export
from historon.inspection.cuts import Past, cut_off, shrunk_slowly
from historon.inspection.formats import Look, kind_of, look_into
from historon.inspection.names import another_name
from historon.store import LARGE, Part, StoredPart, TreeRecord
from historon.versions import as_utf8, too_large

__all__ = ["Inspection", "Kept", "inspect"]

_EDGE = 5
_FEW_LINES = 10  # texts with fewer are compared by their size
_FEW_BYTES = 512  # what is smaller may shrink as it likes
_FEW_MEMBERS = 4
_FEW_ROWS = 10
_HEAD = 2**16
_DEEPEST = 3  # archives in archives in archives
# What a part does not become something else from by itself.
_TELLING = frozenset(Format) - {Format.TEXT, Format.ANYTHING}


@dataclass(frozen=True)
class Kept:
    """A part with the step that kept it, which says what a whole one looks like."""

    part: Part
    step: Keeping


@dataclass(frozen=True)
class _Earlier:
    """The same part of the last good version, and of those before it, the newest first.

    The `content` of one that is large, or did not change, is left out.
    """

    size: int
    sha256: bytes
    content: bytes
    sizes: Sequence[int] = ()
    contents: Sequence[bytes] = ()


class Inspection(msgspec.Struct, tag=True):
    """What was found out about an export: `doubts` make it suspect, `unknown` is what could not be looked into."""

    doubts: list[str] = []
    unknown: list[str] = []


def inspect(
    kept: Sequence[Kept],
    procedure: Procedure,
    before: Mapping[str, StoredPart],
    contents: Mapping[str, bytes],
    max_shrink: Share,
    past: Sequence[Past] = (),
) -> Inspection:
    """Look at every part, whichever step brought it, and at the export as a whole.

    `before` are the parts of the source's last good version, `contents` those of them that differ, but for large ones;
    `past` are the good versions before it. A part that is equal to one of them byte for byte opened by its own format
    then.
    """
    found = Inspection()
    if not kept:
        found.doubts.append("the export is empty: it has no file")
        return found
    trees = _trees(kept)
    for one in kept:
        earlier = _earlier(before.get(one.part.name), contents, past)
        told = [*_by_the_step(one, procedure)]
        found.doubts += told
        if one.step.is_ == "anything" or (earlier and earlier.sha256 == one.part.sha256):
            continue
        in_tree = id(one.step) in trees
        _Part(one, earlier, procedure, max_shrink, in_tree, doubted=bool(told)).judge(found)
    for parts in trees.values():
        found.doubts += _shrunk_tree(parts, before, max_shrink, past)
    if not max_shrink.is_all:
        found.doubts += _vanished(kept, procedure, before)
    return found


def _vanished(kept: Sequence[Kept], procedure: Procedure, before: Mapping[str, StoredPart]) -> Iterator[str]:
    """Parts and folders that the last good version had and this one has not; one that may be missing is a remark.

    As many as before under other names are the same ones: their names may hold a date.
    """
    now = {_own(one.part.name) for one in kept if not one.part.is_tree}
    trees = {one.part.name for one in kept if one.part.is_tree}  # of a store made of plain files these were plain
    earlier = {_own(name) for name, part in before.items() if not part.is_tree and name not in trees}
    if len(now) >= len(earlier):
        return
    steps = [step for _, step in walk(procedure.steps) if isinstance(step, Keeping) and step.optional]
    optional = {step.as_ or str(step.says).rstrip("/").rpartition("/")[2] for step in steps}
    for name in sorted(earlier - now):
        if name.rstrip("/") not in optional:
            yield f"{name} is missing, but the last good version had it"


def _own(name: str) -> str:
    """A part, or the folder that it is in."""
    folder, slash, _ = name.partition("/")
    return f"{folder}{slash}"


def _earlier(part: StoredPart | None, contents: Mapping[str, bytes], past: Sequence[Past]) -> _Earlier | None:
    if part is None:
        return None
    name = part.name
    return _Earlier(
        part.size,
        part.sha256,
        contents.get(name, b"") if part.size <= LARGE else b"",
        [one.sizes[name] for one in past if name in one.sizes],
        [one.contents[name] for one in past if name in one.contents],
    )


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
        yield f"{name} has {size_text(kept.part.size)}, fewer than {size_text(step.min_size)}"
    if step.is_ != "anything" and step.verb == "keep" and (line := error_line(content, procedure)) is not None:
        yield f'{name} holds an error: "{line}"'


@dataclass
class _Part:
    """One part that is judged, or what is packed in one, as if it had come bare."""

    kept: Kept
    earlier: _Earlier | None
    procedure: Procedure
    most: Share
    in_tree: bool
    depth: int = 0
    doubted: bool = False  # whether the step's own signs say that it is not whole: then nobody looks for others

    def judge(self, found: Inspection) -> None:
        """All that can be doubted about it."""
        part = self.kept.part
        if part.is_tree:
            return  # Historon itself has written it
        doubts = [*self._empty_or_error()]
        look = self._open(found, doubts)
        if not self.in_tree and self.earlier:
            doubts += self._shrunk(look)
        bare = not self.in_tree and not self.doubted
        if not doubts and bare and look.kind in ("text", "xml", "json") and part.spool is None:
            doubts += [f"{part.name} {one}" for one in self._cut(document=look.kind != "text")]
        found.doubts += doubts
        if look.kind in ARCHIVES and not doubts and self.depth < _DEEPEST and part.size <= LARGE:
            self._judge_inside(found)

    # ---- bare ------------------------------------------------------------------------------------------------

    def _empty_or_error(self) -> Iterator[str]:
        """Nothing at all, or nothing but an error. Single empty files of a folder are as they may be."""
        name, step, earlier = self.kept.part.name, self.kept.step, self.earlier
        content = as_utf8(self.kept.part.edges)
        if not content.strip():
            if not self.in_tree and (step.verb == "keep" or earlier is None or earlier.size):
                yield f"{name} is empty"
            return
        was = as_utf8(earlier.content[:_HEAD]) if earlier else b""
        if step.verb != "keep" or self.depth:
            looked_at = not self.in_tree or content.count(b"\n") <= 2 * _EDGE
            line = error_line(content, self.procedure) if looked_at else None
            if line is not None and not (was and error_line(was, self.procedure) == line):
                yield f'{name} holds an error: "{line}"'
                return
        if not self.in_tree and (said := no_export(content)) and not (was and no_export(was)):
            yield f"{name} {said}"

    def _open(self, found: Inspection, doubts: list[str]) -> Look:
        """Whether it opens by its own format, to its last member."""
        part, step, earlier = self.kept.part, self.kept.step, self.earlier
        name = part.name
        said = step.is_ if not self.depth else None
        look = look_into(name, _file(part), said)
        was = kind_of(name, earlier.content) if earlier and earlier.content else None
        if look.doubt and said is None and earlier and not _opened_before(name, earlier):
            look.doubt = ""  # it never was what its name says
        if look.doubt:
            doubts.append(f"{name} {look.doubt}")
        elif (
            look.kind == "html" and not self.in_tree and was != "html" and not name.lower().endswith((".html", ".htm"))
        ):
            title = f' ("{look.about[0]}")' if look.about else ""
            doubts.append(f"{name} is a web page{title}")
        elif not self.in_tree and said is None and _became_another(was, look.kind):
            doubts.append(f"{name} is {look.kind}, and was {was} before")
        if look.unknown:
            found.unknown.append(f"{name} {look.unknown}")
        return look

    def _shrunk(self, look: Look) -> Iterator[str]:
        """How much of it is gone, by its members, its tables' rows, its lines or its size."""
        step, part, earlier = self.kept.step, self.kept.part, self.earlier
        if step.record_only or step.follows or earlier is None or look.kind == "empty":
            return
        if look.kind in ARCHIVES or look.kind == "sqlite":
            was = look_into(part.name, BytesIO(earlier.content)) if earlier.content else Look("empty")
            yield from (f"{part.name} {one}" for one in self._fewer_inside(look, was))
        elif shorter := self._shorter(earlier, binary=look.kind == "binary"):
            yield f"{part.name} {shorter}"

    def _fewer_inside(self, look: Look, was: Look) -> Iterator[str]:
        gone = self.most.is_exceeded
        if look.members is not None and was.members is not None:
            if gone(was.members, look.members, _FEW_MEMBERS) or was.members > 0 == look.members:
                yield f"has {look.members} members, and had {was.members}"
        elif look.kind == was.kind and (look.members is None) != (was.members is None):
            yield (
                "holds one file, and held an archive before"
                if was.members
                else "holds an archive, and held one file before"
            )
        for table, rows in was.rows.items():
            if rows and table not in look.rows:
                yield f'has no table "{table}", which had {rows:,} rows'
            elif gone(rows, look.rows.get(table, 0), _FEW_ROWS):
                yield f'has {look.rows[table]:,} rows in the table "{table}", and had {rows:,}'

    def _shorter(self, earlier: _Earlier, *, binary: bool) -> str:
        part, gone = self.kept.part, self.most.is_exceeded
        lines_before = 0 if binary else as_utf8(earlier.content).count(b"\n")
        if lines_before >= _FEW_LINES:
            if gone(lines_before, lines := _lines(part), _FEW_LINES):
                return f"has {lines} lines, and had {lines_before}"
        elif gone(earlier.size, part.size, _FEW_BYTES):
            return f"has {size_text(part.size)}, and had {size_text(earlier.size)}"
        return shrunk_slowly(part.size, [earlier.size, *earlier.sizes], self.most)

    def _cut(self, *, document: bool) -> Iterator[str]:
        step, earlier = self.kept.step, self.earlier
        if step.record_only or step.follows:
            return
        texts = [as_utf8(one) for one in (earlier.content, *earlier.contents)] if earlier and earlier.content else []
        now = as_utf8(self.kept.part.content)
        if another := another_name(now, texts):
            yield another
        yield from cut_off(now, texts, self.most, document=document)

    # ---- packed ----------------------------------------------------------------------------------------------

    def _judge_inside(self, found: Inspection) -> None:
        """What is packed in it, measured by what was packed in the one before."""
        part, earlier = self.kept.part, self.earlier
        now = _inside(part.name, part.content)
        was = _inside(part.name, earlier.content) if earlier and earlier.content else {}
        alone = len(now) == 1 and len(was) <= 1
        older = [_inside(part.name, one) for one in earlier.contents] if earlier and alone else []
        sizes_now, sizes_was = sum(map(len, now.values())), sum(map(len, was.values()))
        for name, content in now.items():
            before = was.get(name) if not alone else next(iter(was.values()), None)
            if content == before:
                continue
            texts = [text for inside in older for text in inside.values()]
            told = _Earlier(len(before), _digest(before), before, [], texts) if before is not None else None
            inner = Kept(Part(name, content), self.kept.step)
            _Part(inner, told, self.procedure, self.most, not alone, self.depth + 1).judge(found)
            if not alone and before is not None and len(before) >= _FEW_BYTES and not content.strip():
                found.doubts.append(f"{name} is empty, and had {size_text(len(before))}")
        if not alone and self.most.is_exceeded(sizes_was, sizes_now, _FEW_BYTES):
            found.doubts.append(f"{part.name} unpacks to {size_text(sizes_now)}, and did to {size_text(sizes_was)}")


def _inside(name: str, content: bytes) -> dict[str, bytes]:
    """The members of an archive that are held as a whole; nothing where it cannot be opened."""
    try:
        members = unpacked(name, BytesIO(content))
    except ArchiveError:
        return {}
    return {key: text for key, text in members.items() if not isinstance(text, TreeRecord) and not too_large(text)}


def _digest(content: bytes) -> bytes:
    return hashlib.sha256(content).digest()


def _became_another(was: str | None, kind: str) -> bool:
    """Whether it was of a kind that nothing becomes another from by itself; a text becomes no binary."""
    if was in _TELLING:
        return kind not in (was, "empty")
    return was == "text" and kind in ("binary", *_TELLING)


def _opened_before(name: str, earlier: _Earlier) -> bool:
    """Whether the part of the last good version opened by its format; of a large one it is taken for granted."""
    return not earlier.content or not look_into(name, BytesIO(earlier.content)).doubt


def _shrunk_tree(
    parts: Sequence[Kept], before: Mapping[str, StoredPart], most: Share, past: Sequence[Past]
) -> Iterator[str]:
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
        yield f"{base} has {size_text(size)}, and had {size_text(size_before)}"
        return
    # Where all of the export is this folder, its size is that of a version.
    sizes = [size_before, *(one.size for one in past)] if len(parts) == len(files) else []
    if slowly := shrunk_slowly(size, sizes, most):
        yield f"{base} {slowly}"


def _lines(part: Part) -> int:
    if part.spool is None:
        return as_utf8(part.content).count(b"\n")
    return sum(piece.count(b"\n") for piece in part.pieces())


def _file(part: Part) -> IO[bytes]:
    """The content as a file; nobody who looks into it closes it."""
    return part.spool or BytesIO(part.content)


def _ends_with(last: str, wanted: str) -> bool:
    """Whether this is the last line that is wanted, as a text or, behind `pattern:`, as an expression."""
    kind, colon, expression = wanted.partition(":")
    if kind == "pattern" and colon:
        return Pattern.parse(expression).compiled.search(last.encode()) is not None
    return last == wanted.strip()


def _last_line(content: bytes) -> str:
    return content.rstrip().rpartition(b"\n")[2].strip().decode("utf-8", "replace")
