"""How the lines of a configuration are nested, found without knowing what wrote it.

By indentation; by braces; by words that open and close (`config` ... `end`); by header lines (`[section]`,
`/section`); or not at all, where each line is a whole path (`set interfaces port-3 mtu 1500`) or stands for itself.
Each of these is a class, which recognises itself in the first lines of a text.
"""

import re
from abc import ABC, abstractmethod
from bisect import bisect_left, bisect_right
from collections import Counter
from collections.abc import Iterator, Sequence
from functools import cached_property
from itertools import filterfalse, islice
from typing import ClassVar

from historon.versions import split_lines

__all__ = ["Outline", "first_words", "outline_of", "places_under", "section_of", "words_of"]

_DEEPEST = 100  # headings of a path: whatever nests deeper is no configuration that anybody wrote
_LONGEST_HEADER = 400  # bytes of a line
_MOST_FITTING = 50  # words that are tried as what a closing word closes
_SAMPLE = 600  # lines among which are those by which the kind of nesting is found ...
_TELLING = 250  # ... which are so many that say something
_STEPS = 100_000  # lines that are walked over at most before all lines are looked at once ...
_FEW_STEPS = 1_000  # ... where they are not that many, these and twice as many as there are
_WHOLE = 100_000  # lines among which words that open and close are looked for
_HEADER = re.compile(rb"\s*(?:\[{1,2}[^\[\]]+\]{1,2}|/[\w/ .-]*[A-Za-z][\w/ .-]*|\*[a-z]+)\s*$")
_COMMENT_SIGNS = rb"[#;!]|//|/\*|<!--|--\s|rem\s"
_COMMENT = re.compile(rb"\s*(?:%s)" % _COMMENT_SIGNS, re.IGNORECASE)
_BLANK_OR_COMMENT = re.compile(rb"\s*(?:$|%s)" % _COMMENT_SIGNS, re.IGNORECASE)
# What a block is known by whose heading stands there more than once, such as `server {`: the first of these in it.
_TELLING_NAMES = (
    b"server_name",
    b"name",
    b"id",
    b"host",
    b"hostname",
    b"publickey",
    b"endpoint",
    b"listen",
    b"match",
    b"address",
    b"description",
)
_LOOKED_INTO = 60  # lines of such a block
_CLOSERS = {b"end", b"next", b"exit", b"quit", b"done", b"return", b"fi"}
_JSON_NAME = re.compile(rb"\s*\"([^\"]+)\"\s*:\s*[{\[]\s*$")
_KEYED = re.compile(rb"[ \t]{0,8}([A-Za-z_][\w.-]*):(?:[ \t]+(\S.*)|\s*$)")
_DIRECTIVE = re.compile(rb"[ \t]*([A-Za-z%@][\w.%@/-]*)(?:[ \t]*[=:]|[ \t])[ \t]*(?=\S)")
_SENTENCE = re.compile(rb"\s[a-z]+[.!?]\s*$")
_VERBS = {b"no", b"undo", b"set", b"unset", b"add", b"delete", b"default"}  # what they are about comes behind them
_WORD = re.compile(rb"(?:\[secret [0-9a-f]+\]|\S)+")
_NOTHING = re.compile(rb"[\W_]*$")  # a line that only separates


class _Sample:
    """The first lines of a text that say something, by which its nesting is recognised."""

    def __init__(self, lines: Sequence[bytes]) -> None:
        self.whole = lines
        self.lines = list(islice(filterfalse(_BLANK_OR_COMMENT.match, lines[:_SAMPLE]), _TELLING))

    @cached_property
    def joined(self) -> bytes:
        """Those lines without what is around them, each ended by a line break on both sides."""
        return b"\n" + b"\n".join(line.strip() for line in self.lines) + b"\n"


def outline_of(
    lines: Sequence[bytes],
    kind: str | None = None,
    shown: Sequence[bytes] | None = None,
    *,
    may_be_several: bool = True,
) -> "Outline":
    """The outline of a text. `kind` is as a procedure's `outline`; otherwise it is found.

    `may_be_several` says whether the text may be several documents, as far as that is known.
    `shown` are the lines as they stand in paths, where those that tell how they are nested are not fit for eyes.
    """
    made: type[Outline]
    if kind:
        made = next(one for one in _KINDS if one.kind == kind)
    else:
        sample = _Sample(lines)
        made = next(one for one in _KINDS if one.fits(sample)) if sample.lines else _Flat
    return made(lines, shown, may_be_several=may_be_several)


class Outline(ABC):
    """The nesting of a text's lines, see `outline_of`.

    It is looked for upwards from the lines that are asked about, or, once that has taken many steps, for all lines at
    once; so no text makes it quadratic.
    """

    kind: ClassVar[str]

    def __init__(
        self, lines: Sequence[bytes], shown: Sequence[bytes] | None = None, *, may_be_several: bool = True
    ) -> None:
        """See `outline_of`."""
        self.lines = lines
        self._may_be_several = may_be_several
        self.shown = lines if shown is None else shown
        self._known: dict[int, int] = {}
        self._paths: dict[int, tuple[bytes, ...]] = {}
        self._headings: dict[int, bytes] = {}
        self._bare: dict[int, tuple[bytes, ...]] = {}  # headings by what is right above
        self._ranks: list[int] = []
        self._children: Counter[int] = Counter()
        self._steps = min(_STEPS, 2 * len(lines) + _FEW_STEPS)

    # ---- what a kind of nesting says of itself -----------------------------------------------------------------------

    @classmethod
    @abstractmethod
    def fits(cls, sample: _Sample) -> bool:
        """Whether a text that begins so is nested in this way."""

    def opens(self, at: int) -> bool:
        """Whether a line begins a section that has a name of its own."""
        return False

    def closes(self, line: bytes) -> bool:
        """Whether a line ends a section, such as `}` or `exit`."""
        return False

    def tells(self, at: int) -> bool:
        """Whether a line says anything: blank lines, separators and closing ones do not."""
        return not _NOTHING.match(self.lines[at])

    def document(self, at: int) -> bytes:
        """What the document is called that a line is in, where the text is several of them (YAML 1.2, 9.2)."""
        return b""

    def words_above(self, at: int) -> bytes:
        """The words at the beginning of a line that say which list or setting it belongs to; empty for none.

        Where each line is a whole path they are those that it shares with another, else the name that gets a value.
        """
        return b""

    def _found_parent(self, at: int) -> tuple[int, int]:
        """A line's parent, and the line up to which was walked for it."""
        return -1, at

    def _parents(self) -> Iterator[int]:
        """The parents of all lines, in one pass."""
        yield from (-1 for _ in self.lines)

    def _ends(self, below: int, at: int) -> bool:
        """Whether the section that a line opens is over at a line below it."""
        return self.closes(self.lines[below]) and self.parent(below) != at

    # ---- what is the same for all ------------------------------------------------------------------------------------

    def path(self, at: int) -> tuple[bytes, ...]:
        """The headings above a line, from the outermost, such as `interface port-3`; no more than a hundred."""
        asked, below = at, []
        while at >= 0 and at not in self._paths:
            below.append(at)
            at = self.parent(at)
        path = self._path_below(at)
        for line in reversed(below):
            self._paths[line] = path
            path = self._path_below(line)
        return self._paths[asked]

    def _path_below(self, at: int) -> tuple[bytes, ...]:
        """The path of what stands right under a line."""
        path = self._paths[at] if at >= 0 else ()
        if at < 0 or len(path) >= _DEEPEST or self._heading(at) in (b"{", b"("):
            return path
        return *path, self._heading(at)

    def headings(self, at: int) -> tuple[bytes, ...]:
        """The headings above a line as they stand, also where that does not tell one block from another."""
        parent = self.parent(at)
        if parent not in self._bare:
            found: list[bytes] = []
            above = parent
            while len(found) < _DEEPEST and above >= 0:
                found.append(_heading(self.shown[above]))
                above = self.parent(above)
            self._bare[parent] = tuple(reversed(found))
        return self._bare[parent]

    def parent(self, at: int) -> int:
        """The line that a line stands under; -1 for none. A closing line stands with what it closes."""
        if at not in self._known:
            if self._steps < 0:
                self._known = dict(enumerate(self._parents()))
                return self._known[at]
            self._known[at], walked_to = self._found_parent(at)
            self._steps -= at - walked_to
        return self._known[at]

    def rank(self, at: int) -> int:
        """Which of the lines under the same heading this is, counted from 1."""
        for line in range(len(self._ranks), at + 1):
            parent = self.parent(line)
            self._children[parent] += self.tells(line)
            self._ranks.append(self._children[parent])
        return self._ranks[at]

    def remarks(self, at: int) -> bool:
        """Whether a line is a comment, which belongs to what stands right below it."""
        return _COMMENT.match(self.lines[at]) is not None

    @cached_property
    def _repeated(self) -> set[bytes]:
        """What opens a block at more than one place."""
        counts = Counter(line.strip() for at, line in enumerate(self.lines) if self.opens(at))
        return {line for line, count in counts.items() if count > 1}

    def _heading(self, at: int) -> bytes:
        """What names a section: its first line without what opens it; a single word also by what tells it apart."""
        if at not in self._headings:
            self._headings[at] = self._named(at)
        return self._headings[at]

    def _named(self, at: int) -> bytes:
        heading = _heading(self.shown[at])
        if self.lines[at].strip() not in self._repeated:
            return heading
        found: dict[bytes, bytes] = {}
        for below in range(at + 1, min(at + _LOOKED_INTO, len(self.lines))):
            line = self.lines[below]
            if self._ends(below, at):
                break
            name = line.split(None, 1)[0].partition(b"=")[0].lower() if line.strip() else b""
            if name in _TELLING_NAMES and name not in found and self.parent(below) == at:
                found[name] = self.shown[below].strip().rstrip(b";,")
        told = next((found[name] for name in _TELLING_NAMES if name in found), b"")
        return b"%s (%s)" % (heading, told) if told else heading


class _Flat(Outline):
    """Each line stands for itself."""

    kind = "flat"

    @classmethod
    def fits(cls, sample: _Sample) -> bool:
        return True

    def words_above(self, at: int) -> bytes:
        named = _DIRECTIVE.match(self.shown[at]) if self._gives_values else None
        return named[1] if named and named[1].lower() not in _VERBS else b""

    @cached_property
    def _gives_values(self) -> bool:
        """Whether nearly each line gives a value to a name; prose does not."""
        sample = _Sample(self.lines).lines
        like = sum(_DIRECTIVE.match(line) is not None for line in sample)
        ended = sum(_SENTENCE.search(line) is not None for line in sample)
        return like >= 0.7 * len(sample) and ended <= 0.1 * len(sample)


class _Prefixed(_Flat):
    """Each line is a whole path, such as `set interfaces port-3 mtu 1500`."""

    kind = "prefixes"

    @classmethod
    def fits(cls, sample: _Sample) -> bool:
        words = Counter(line.split(None, 1)[0] for line in sample.lines)
        common = sum(count for _, count in words.most_common(3))
        deep = sum(len(line.split()) >= 3 for line in sample.lines)
        return common > 0.9 * len(sample.lines) and deep > 0.8 * len(sample.lines)

    def words_above(self, at: int) -> bytes:
        return self._shared_words(at) or super().words_above(at)

    def _shared_words(self, at: int) -> bytes:
        lines, places = self._sorted
        here = bisect_left(lines, self.lines[at])
        near = [places[other] for other in range(max(0, here - 1), min(here + 3, len(lines))) if other != here]
        line = self.shown[at].strip()
        shared = max((first_words(line, self.shown[other].strip()) for other in near), key=len, default=b"")
        words = shared.split()
        return shared if len(words) < len(line.split()) else b" ".join(words[:-1])

    @cached_property
    def _sorted(self) -> tuple[list[bytes], list[int]]:
        """The lines in order, each once, and where one of each stands."""
        places = {line: at for at, line in enumerate(self.lines)}
        lines = sorted(places)
        return lines, [places[line] for line in lines]


class _Indented(Outline):
    """What is indented more stands under the nearest line above that is indented less."""

    kind = "indentation"

    @classmethod
    def fits(cls, sample: _Sample) -> bool:
        return sum(line[:1] in b" \t" for line in sample.lines) >= max(1, len(sample.lines) // 50)

    def document(self, at: int) -> bytes:
        if not self._documents:
            return b""
        starts, names = self._documents
        return names[bisect_right(starts, at) - 1]

    @cached_property
    def _documents(self) -> tuple[list[int], list[bytes]] | None:
        if not self._may_be_several or not any(map(_KEYED.match, self.lines[:_SAMPLE])):
            return None
        marks = [at for at, line in enumerate(self.lines) if line.rstrip() == b"---"]
        if not marks:
            return None
        starts = [0, *(at + 1 for at in marks)]
        return starts, [self._document_name(start) for start in starts]

    def _document_name(self, start: int) -> bytes:
        """Its `kind` and `name`, as far as it has them near its beginning."""
        found: dict[bytes, bytes] = {}
        for line in self.shown[start : start + _LOOKED_INTO]:
            if line.rstrip() == b"---":
                break
            keyed = _KEYED.match(line)
            if keyed and keyed[1] in (b"kind", b"name"):
                found.setdefault(keyed[1], keyed[2].strip())
        return b" ".join(found[key] for key in (b"kind", b"name") if key in found)

    def _found_parent(self, at: int) -> tuple[int, int]:
        lines = self.lines
        while at > 0 and not lines[at].strip():
            at -= 1
        depth = _depth(lines[at]) if lines else 0
        if not depth:
            return -1, at
        for other in range(at - 1, -1, -1):
            if _says_nothing(lines[other]):
                continue
            above = _depth(lines[other])
            if above < depth:
                return other, other
            if above == depth and other in self._known:
                return self._known[other], other
        return -1, -1

    def _parents(self) -> Iterator[int]:
        stack: list[tuple[int, int]] = []
        last = -1
        for at, line in enumerate(self.lines):
            if not line.strip():
                yield last
                continue
            depth = _depth(line)
            if not _says_nothing(line):
                while stack and stack[-1][0] >= depth:
                    stack.pop()
                last = stack[-1][1] if stack else -1
                stack.append((depth, at))
            else:
                last = next((heading for above, heading in reversed(stack) if above < depth), -1)
            yield last


class _Enclosed(Outline):
    """A section is opened by one line and closed by another."""

    @abstractmethod
    def _opens(self, line: bytes) -> bool:
        """Whether a line opens a section."""

    def _found_parent(self, at: int) -> tuple[int, int]:
        """The nearest line above that opens a section which is still open here."""
        closed = 1 if self.closes(self.lines[at]) else 0
        for other in range(at - 1, -1, -1):
            line = self.lines[other]
            if not closed and other in self._known and not self._opens(line) and not self.closes(line):
                return self._known[other], other
            if self._opens(line):
                if not closed:
                    return other, other
                closed -= 1
            if self.closes(line):
                closed += 1
        return -1, -1

    def _parents(self) -> Iterator[int]:
        stack: list[int] = []
        for at, line in enumerate(self.lines):
            if self.closes(line) and stack:
                stack.pop()
            yield stack[-1] if stack else -1
            if self._opens(line):
                stack.append(at)


class _Braced(_Enclosed):
    """By braces, or by parentheses."""

    kind = "braces"

    @classmethod
    def fits(cls, sample: _Sample) -> bool:
        opened, closed = sample.joined.count(b"{\n"), sample.joined.count(b"\n}")
        return opened >= 2 and opened <= 1.2 * closed + 2

    def opens(self, at: int) -> bool:
        return self._opens(self.lines[at])

    def closes(self, line: bytes) -> bool:
        return not _COMMENT.match(line) and (line.lstrip()[:1] in (b"}", b")") or line.count(b"}") > line.count(b"{"))

    def _opens(self, line: bytes) -> bool:
        if _COMMENT.match(line):
            return False
        return line.rstrip().endswith((b"{", b"(")) or (b"{" in line and line.count(b"{") > line.count(b"}"))


class _Worded(_Enclosed):
    """By words that open and words that close, such as `config` and `end`."""

    kind = "words"

    def __init__(
        self, lines: Sequence[bytes], shown: Sequence[bytes] | None = None, *, may_be_several: bool = True
    ) -> None:
        super().__init__(lines, shown, may_be_several=may_be_several)
        self._openers, self._closers = _pairs(lines) or (frozenset(), frozenset(_CLOSERS))

    @classmethod
    def fits(cls, sample: _Sample) -> bool:
        return _pairs(sample.whole) is not None

    def tells(self, at: int) -> bool:
        return super().tells(at) and not self.closes(self.lines[at])

    def closes(self, line: bytes) -> bool:
        return line.strip() in self._closers

    def _opens(self, line: bytes) -> bool:
        first = [] if _COMMENT.match(line) else line.split(None, 1)
        return bool(first) and first[0] in self._openers


class _Headed(Outline):
    """By header lines, such as `[section]`, each up to the next."""

    kind = "headers"

    @classmethod
    def fits(cls, sample: _Sample) -> bool:
        return sum(_is_header(line) for line in sample.lines) >= 2

    def opens(self, at: int) -> bool:
        return _is_header(self.lines[at])

    def _ends(self, below: int, at: int) -> bool:
        return _is_header(self.lines[below])

    def _found_parent(self, at: int) -> tuple[int, int]:
        if _is_header(self.lines[at]):
            return -1, at
        for other in range(at - 1, -1, -1):
            if other in self._known and self._known[other] >= 0:
                return self._known[other], other
            if _is_header(self.lines[other]):
                return other, other
        return -1, -1

    def _parents(self) -> Iterator[int]:
        above = -1
        for at, line in enumerate(self.lines):
            header = _is_header(line)
            above = at if header else above
            yield -1 if header else above


_KINDS: Sequence[type[Outline]] = (_Braced, _Worded, _Indented, _Headed, _Prefixed, _Flat)  # the surest first


def _pairs(lines: Sequence[bytes]) -> tuple[frozenset[bytes], frozenset[bytes]] | None:
    """The words that open and those that close, when pairs of them are found in equal number and well nested."""
    if sum(map(_CLOSERS.__contains__, map(bytes.strip, lines[:_SAMPLE]))) < 2:
        return None
    whole = lines[:_WHOLE]
    firsts = [[] if _COMMENT.match(line) else line.split(None, 1) for line in whole]
    counts = Counter(first[0] for first in firsts if len(first) == 2)
    bare = Counter(first[0] for first in firsts if len(first) == 1)
    pairs: dict[bytes, bytes] = {}
    for closer in sorted(_CLOSERS & bare.keys(), key=lambda word: -bare[word]):
        fitting = [word for word, count in counts.items() if count == bare[closer] and word not in pairs]
        for opener in fitting[:_MOST_FITTING]:
            if bare[closer] >= 2 and _nested(firsts, {**pairs, opener: closer}):
                pairs[opener] = closer
                break
    return (frozenset(pairs), frozenset(pairs.values())) if pairs else None


def _is_header(line: bytes) -> bool:
    return len(line) <= _LONGEST_HEADER and _HEADER.match(line) is not None


def _nested(firsts: Sequence[Sequence[bytes]], pairs: dict[bytes, bytes]) -> bool:
    """Whether each closing word comes when what it closes was opened last."""
    closers = set(pairs.values())
    stack: list[bytes] = []
    for first in firsts:
        if len(first) == 2 and first[0] in pairs:
            stack.append(pairs[first[0]])
        elif len(first) == 1 and first[0] in closers and (not stack or stack.pop() != first[0]):
            return False
    return not stack


def section_of(content: bytes, place: str, kind: str | None = None) -> bytes:
    """The lines of a text that stand under a place of its outline, such as `interface port-3`; empty for none.

    Capitals and small letters are the same, and a part of the place will do. `kind` is as in a procedure's `outline`.
    """
    outline = outline_of(split_lines(content), kind)
    return b"".join(outline.lines[at] for at in places_under(outline, place))


def places_under(outline: Outline, place: str) -> list[int]:
    """Which lines those are."""
    wanted = place.lower().encode()
    found: list[int] = []
    inside = False
    for at, line in enumerate(outline.lines):
        under = b" / ".join((*outline.path(at), line.strip())).lower()
        inside = wanted in under or (inside and outline.closes(line))
        if inside:
            found.append(at)
    return found


def _says_nothing(line: bytes) -> bool:
    """Whether a line heads nothing whatever its depth: blank, a separator, or a comment."""
    return not line.strip(b" \t\r\n!#") or _COMMENT.match(line) is not None


def _heading(line: bytes) -> bytes:
    """What names a section: its first line without what opens it; of one in JSON the name alone."""
    named = _JSON_NAME.match(line)
    return named[1] if named else line.strip().rstrip(b"{(").rstrip() or line.strip()


def _depth(line: bytes) -> int:
    expanded = line.expandtabs(8)
    return len(expanded) - len(expanded.lstrip(b" "))


def first_words(line: bytes, other: bytes) -> bytes:
    """The words that two lines begin with alike."""
    same = []
    for one, two in zip(words_of(line), words_of(other), strict=False):
        if one != two:
            break
        same.append(one)
    return b" ".join(same)


def words_of(line: bytes) -> list[bytes]:
    """The words of a line; the mark of a hidden secret is one."""
    return _WORD.findall(line)
