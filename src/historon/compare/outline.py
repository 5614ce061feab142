"""How the lines of a configuration are nested, found without knowing what wrote it.

By indentation; by braces; by words that open and close (`config` ... `end`); by header lines (`[section]`,
`/section`); or not at all, where each line is a whole path (`set interfaces port-3 mtu 1500`) or stands for itself.
"""

import re
from bisect import bisect_left, bisect_right
from collections import Counter
from collections.abc import Callable, Iterator, Sequence
from functools import cached_property
from itertools import filterfalse, islice

from historon.versions import split_lines

__all__ = ["Outline", "first_words", "places_under", "section_of", "words_of"]

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


class Outline:
    """The nesting of a text's lines.

    It is looked for upwards from the lines that are asked about, or, once that has taken many steps, for all lines at
    once; so no text makes it quadratic.
    """

    def __init__(
        self,
        lines: Sequence[bytes],
        kind: str | None = None,
        shown: Sequence[bytes] | None = None,
        *,
        may_be_several: bool = True,
    ) -> None:
        """`kind` is as a procedure's `outline`; otherwise it is found.

        `may_be_several` says whether the text may be several documents, as far as that is known.
        `shown` are the lines as they stand in paths, where those that tell how they are nested are not fit for eyes.
        """
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
        self._openers: frozenset[bytes] = frozenset()
        self._closers: frozenset[bytes] = frozenset()
        self.kind = kind or self._found_kind()
        if self.kind == "words":
            self._openers, self._closers = self._pairs or (frozenset(), frozenset(_CLOSERS))

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

    @cached_property
    def _repeated(self) -> set[bytes]:
        """What opens a block at more than one place."""
        opening = _is_header if self.kind == "headers" else self._opens
        counts = Counter(line.strip() for line in self.lines if opening(line))
        return {line for line, count in counts.items() if count > 1}

    def document(self, at: int) -> bytes:
        """What the document is called that a line is in, where the text is several of them (YAML 1.2, 9.2)."""
        if self.kind != "indentation" or not self._documents:
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

    def words_above(self, at: int) -> bytes:
        """The words at the beginning of a line that say which list or setting it belongs to; empty for none.

        Where each line is a whole path they are those that it shares with another, else the name that gets a value.
        """
        if self.kind == "prefixes" and (shared := self._shared_words(at)):
            return shared
        if self.kind in ("flat", "prefixes") and self._gives_values:
            named = _DIRECTIVE.match(self.shown[at])
            return named[1] if named and named[1].lower() not in _VERBS else b""
        return b""

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

    @cached_property
    def _sample(self) -> list[bytes]:
        """The first lines that say something."""
        return list(islice(filterfalse(_BLANK_OR_COMMENT.match, self.lines[:_SAMPLE]), _TELLING))

    @cached_property
    def _bare_sample(self) -> list[bytes]:
        return [line.strip() for line in self._sample]

    @cached_property
    def _gives_values(self) -> bool:
        """Whether nearly each line gives a value to a name; prose does not."""
        sample = self._sample
        like = sum(_DIRECTIVE.match(line) is not None for line in sample)
        ended = sum(_SENTENCE.search(line) is not None for line in sample)
        return like >= 0.7 * len(sample) and ended <= 0.1 * len(sample)

    def _heading(self, at: int) -> bytes:
        """What names a section: its first line without what opens it; a single word also by what tells it apart."""
        if at not in self._headings:
            self._headings[at] = self._named(at)
        return self._headings[at]

    def _named(self, at: int) -> bytes:
        heading = _heading(self.shown[at])
        if self.kind not in ("braces", "headers") or self.lines[at].strip() not in self._repeated:
            return heading
        found: dict[bytes, bytes] = {}
        for below in range(at + 1, min(at + _LOOKED_INTO, len(self.lines))):
            line = self.lines[below]
            if (self.closes(line) and self.parent(below) != at) or (self.kind == "headers" and _is_header(line)):
                break
            name = line.split(None, 1)[0].partition(b"=")[0].lower() if line.strip() else b""
            if name in _TELLING_NAMES and name not in found and self.parent(below) == at:
                found[name] = self.shown[below].strip().rstrip(b";,")
        told = next((found[name] for name in _TELLING_NAMES if name in found), b"")
        return b"%s (%s)" % (heading, told) if told else heading

    def parent(self, at: int) -> int:
        """The line that a line stands under; -1 for none. A closing line stands with what it closes."""
        if at not in self._known:
            if self._steps < 0:
                self._known = dict(enumerate(self._parents()))
                return self._known[at]
            self._known[at], walked_to = self._finders[self.kind](at)
            self._steps -= at - walked_to
        return self._known[at]

    def rank(self, at: int) -> int:
        """Which of the lines under the same heading this is, counted from 1."""
        for line in range(len(self._ranks), at + 1):
            parent = self.parent(line)
            self._children[parent] += self.tells(line)
            self._ranks.append(self._children[parent])
        return self._ranks[at]

    def closes(self, line: bytes) -> bool:
        """Whether a line ends a section, such as `}` or `exit`."""
        return self.kind in ("braces", "words") and self._closes(line)

    def tells(self, at: int) -> bool:
        """Whether a line says anything: blank lines, separators and closing ones do not."""
        line = self.lines[at]
        return not _NOTHING.match(line) and not (self._closes(line) if self.kind == "words" else False)

    def remarks(self, at: int) -> bool:
        """Whether a line is a comment, which belongs to what stands right below it."""
        return _COMMENT.match(self.lines[at]) is not None

    @cached_property
    def _finders(self) -> dict[str, Callable[[int], tuple[int, int]]]:
        """How a line's parent is found by the kind of nesting: the parent, and the line up to which was walked."""
        return {
            "indentation": self._shallower,
            "braces": self._unclosed,
            "words": self._unclosed,
            "headers": self._last_header,
            "prefixes": lambda at: (-1, at),
            "flat": lambda at: (-1, at),
        }

    def _shallower(self, at: int) -> tuple[int, int]:
        """The nearest line above that is indented less."""
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

    def _unclosed(self, at: int) -> tuple[int, int]:
        """The nearest line above that opens a section which is still open here."""
        closed = 1 if self._closes(self.lines[at]) else 0
        for other in range(at - 1, -1, -1):
            line = self.lines[other]
            if not closed and other in self._known and not self._opens(line) and not self._closes(line):
                return self._known[other], other
            if self._opens(line):
                if not closed:
                    return other, other
                closed -= 1
            if self._closes(line):
                closed += 1
        return -1, -1

    def _parents(self) -> Iterator[int]:
        """The parents of all lines, in one pass."""
        if self.kind == "indentation":
            yield from self._parents_by_depth()
            return
        stack: list[int] = []
        for at, line in enumerate(self.lines):
            if self.kind == "headers":
                header = _is_header(line)
                stack = [at] if header else stack
                yield stack[-1] if stack and not header else -1
                continue
            if self._closes(line) and stack:
                stack.pop()
            yield stack[-1] if stack else -1
            if self._opens(line):
                stack.append(at)

    def _parents_by_depth(self) -> Iterator[int]:
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

    def _opens(self, line: bytes) -> bool:
        if _COMMENT.match(line):
            return False
        if self.kind == "braces":
            return line.rstrip().endswith((b"{", b"(")) or (b"{" in line and line.count(b"{") > line.count(b"}"))
        return line.split(None, 1)[:1] != [] and line.split(None, 1)[0] in self._openers

    def _closes(self, line: bytes) -> bool:
        if self.kind == "braces":
            return not _COMMENT.match(line) and (
                line.lstrip()[:1] in (b"}", b")") or line.count(b"}") > line.count(b"{")
            )
        return line.strip() in self._closers

    def _last_header(self, at: int) -> tuple[int, int]:
        if _is_header(self.lines[at]):
            return -1, at
        for other in range(at - 1, -1, -1):
            if other in self._known and self._known[other] >= 0:
                return self._known[other], other
            if _is_header(self.lines[other]):
                return other, other
        return -1, -1

    def _found_kind(self) -> str:
        sample = self._sample
        if not sample:
            return "flat"
        joined = b"\n" + b"\n".join(self._bare_sample) + b"\n"
        opened, closed = joined.count(b"{\n"), joined.count(b"\n}")
        if opened >= 2 and opened <= 1.2 * closed + 2:
            return "braces"
        if self._pairs:
            return "words"
        if sum(line[:1] in b" \t" for line in sample) >= max(1, len(sample) // 50):
            return "indentation"
        if sum(_is_header(line) for line in sample) >= 2:
            return "headers"
        words = Counter(line.split(None, 1)[0] for line in sample)
        common = sum(count for _, count in words.most_common(3))
        deep = sum(len(line.split()) >= 3 for line in sample)
        if common > 0.9 * len(sample) and deep > 0.8 * len(sample):
            return "prefixes"
        return "flat"

    @cached_property
    def _pairs(self) -> tuple[frozenset[bytes], frozenset[bytes]] | None:
        """The words that open and those that close, when pairs of them are found in equal number and well nested."""
        if sum(map(_CLOSERS.__contains__, map(bytes.strip, self.lines[:_SAMPLE]))) < 2:
            return None
        whole = self.lines[:_WHOLE]
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
    outline = Outline(split_lines(content), kind)
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
