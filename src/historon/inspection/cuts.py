"""Signs that only a beginning came: by the last good versions of the same text, or by the text itself.

What was always so, and is no longer, is a doubt: one edit seldom takes away the line that ended every version before.
"""

import re
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field
from statistics import median
from xml.parsers import expat

import msgspec

from historon.base.quantities import size_text
from historon.estate import Share

__all__ = ["MOST_PAST", "Past", "cut_off", "shrunk_slowly"]

MOST_PAST = 9  # good versions of before that an export is measured against, the last one among them
_ENOUGH = 5  # of them for a spread of sizes
_SEVERAL = 3  # of them for a section to have been there always
_SPREADS = 4 * 1.4826  # the median absolute deviation, as the standard deviation of a normal distribution; four of them
_FEW_BYTES = 512
_BLOCK = 512  # bytes: what is written and sent comes in multiples of it
_TAIL = 0.1  # of the lines
_MOST_OF_IT = 0.75
_HALF = 0.5
_ALIKE = 0.05
_LOOKED_AT = 4096  # bytes that tell most
_FEW_LINES = 4
_SAID = 60
# What ends an export by its meaning: one version with it is enough.
_MARKS = re.compile(
    rb"^(?:end|exit|quit|return|commit;?|eof|\}+;?|\]\}?;?|\)+;?|</[\w:.-]+>|-----END [\w ]+-----"
    rb"|(?:#|!|--|//|;)+ *(?:end|eof|.*(?:complete|finished|end of).*)?)$",
    re.IGNORECASE,
)
_OPENS = re.compile(rb"[{\[(][ \t]*(?:(?:#|//|/\*).*)?\r?$", re.MULTILINE)
_CLOSES = re.compile(rb"^[ \t]*[}\])]", re.MULTILINE)
_ARMOUR = re.compile(rb"^[ \t]*-----(BEGIN|END) [A-Z0-9 ]+-----", re.MULTILINE)
_NAME = re.compile(rb"\[?[\w.:@/-]+\]?")
_NUMBERS = re.compile(rb"[0-9]+")
_DEEPEST_NAMES = 3  # elements that only hold one other, before the sections of a document begin


@dataclass(frozen=True)
class Past:
    """A good version of before: the size of all its parts, in bytes, those of single ones, and contents of some."""

    size: int
    sizes: dict[str, int] = field(default_factory=dict)
    contents: dict[str, bytes] = field(default_factory=dict, repr=False)


def shrunk_slowly(size: int, before: Sequence[int], most: Share) -> str:
    """Whether what lost a little each time has lost too much in all; empty where it has not.

    Against the median of the versions kept, and beyond four times their spread (the median absolute deviation), so that
    what always goes up and down may go on with it.
    """
    if len(before) < _ENOUGH:
        return ""
    middle = median(before)
    spread = median(abs(one - middle) for one in before)
    if most.is_exceeded(int(middle), size, _FEW_BYTES) and size < middle - _SPREADS * spread:
        return (
            f"has {size_text(size)}, and had {size_text(middle)} in the middle of the last {len(before)} good versions"
        )
    return ""


def cut_off(now: bytes, before: Sequence[bytes], most: Share, *, document: bool) -> Iterator[str]:
    """What says that a text ends before its end. `before` are its last good versions, the newest first.

    Where more than half may be gone, an end and sections may be, too; where all may be, nothing is asked. A `document`
    has shown by itself that it is whole; a section of it may be missing anyway.
    """
    if most >= 1:
        return
    if document:
        if before and most <= _HALF and (found := _lost_sections(now, before)):
            yield found
        return
    if (armour := _open_armour(now)) and not any(map(_open_armour, before)):
        yield f"ends within {armour}"
        return
    if not before:
        if _in_a_line(now) and len(now) % _BLOCK == 0:
            yield f"ends in the middle of a line, after {size_text(len(now))}, a round number"
        return
    found = _no_line_feed(now, before) or _another_end(now, before) or _open_blocks(now, before)
    if not found and most <= _HALF and len(now) < len(before[0]):
        lines, were = now.count(b"\n"), before[0].count(b"\n")
        found = _lost_tail(now, before[0])
        if not found and were - lines >= were * _TAIL:
            found = _lost_sections(now, before)
    if found := found or _another_text(now, before):
        yield found


def _in_a_line(text: bytes) -> bool:
    return b"\n" in text and not text.endswith(b"\n")


def _no_line_feed(now: bytes, before: Sequence[bytes]) -> str:
    if now.endswith(b"\n") or not all(one.endswith(b"\n") for one in before):
        return ""
    last = now.rpartition(b"\n")[2]
    # Who edits by hand may leave the line feed out; then the line itself is the last one, or a new one.
    if len(now) >= len(before[0]) and last == before[0].rstrip(b"\n").rpartition(b"\n")[2]:
        return ""
    return f'ends in the middle of a line: "{_shown(last)}"'


def _another_end(now: bytes, before: Sequence[bytes]) -> str:
    """All ended with the same line, one that means an end, and it is gone from here."""
    ended = {_last_line(one) for one in before}
    (last,) = ended if len(ended) == 1 else (b"",)
    if not last or _last_line(now) == last or not _MARKS.match(last.strip()):
        return ""
    if now.splitlines().count(last) >= before[0].splitlines().count(last):
        return ""  # something came behind it
    how_many = f"the last {len(before)} good versions" if len(before) > 1 else "the last good version"
    return f'does not end with "{_shown(last)}", as {how_many} did'


def _open_blocks(now: bytes, before: Sequence[bytes]) -> str:
    """More blocks begin at the ends of lines than close at the beginnings of others, where all closed before."""
    if not any(mark in now for mark in (b"{", b"[", b"(")):
        return ""
    if _blocks(now) <= 0 or any(map(_blocks, before)):
        return ""
    count = _blocks(now)
    return f"has {count} unclosed block{'s' if count > 1 else ''}"


def _blocks(text: bytes) -> int:
    return sum(1 for _ in _OPENS.finditer(text)) - sum(1 for _ in _CLOSES.finditer(text))


def _open_armour(text: bytes) -> str:
    """What is begun and not ended (RFC 7468, section 2)."""
    if b"-----BEGIN " not in text:
        return ""
    marks = _ARMOUR.findall(text)
    if marks.count(b"BEGIN") <= marks.count(b"END"):
        return ""
    *_, begun = (found[0] for found in _ARMOUR.finditer(text) if found[1] == b"BEGIN")
    return str(begun.strip().decode())


def _lost_tail(now: bytes, last: bytes) -> str:
    """It goes as the last good version did, and ends where that went on."""
    if _last_lines(now) == _last_lines(last):
        return ""
    lines, were = [[line for line in text.splitlines() if line.strip()] for text in (now, last)]
    if len(lines) < _FEW_LINES or len(were) < _FEW_LINES:
        return ""
    end = lines[-3:]
    places = [at for at in range(len(were) - 2) if were[at : at + 3] == end]
    if not places:
        return ""
    left = were[max(places) + 3 :]
    here, there, followed = set(lines), set(were), set(left)
    gone = followed - here
    if len(left) < max(2, len(were) * _TAIL) or len(gone) < len(followed) * _MOST_OF_IT:
        return ""
    # An edit elsewhere hides nothing, but where as much came as went it is no cut.
    if len(here - there) >= len(gone):
        return ""
    return f"ends {len(left):,} lines before the last good version did"


def _lost_sections(now: bytes, before: Sequence[bytes]) -> str:
    """A section of the first level that was there in all of them is gone."""
    if len(before) < _SEVERAL:
        return ""
    always = frozenset.intersection(*map(_sections, before))
    lines = {_NUMBERS.sub(b"#", name[0]) for line in now.splitlines() if (name := _NAME.match(line))}
    gone = sorted(always - _sections(now) - lines) if always else []
    if not gone:
        return ""
    shown = ", ".join(f'"{_shown(one)}"' for one in gone[:3])
    more = f" and {len(gone) - 3} more" if len(gone) > 3 else ""
    return f"lacks {shown}{more}, which the last {len(before)} good versions had"


def _another_text(now: bytes, before: Sequence[bytes]) -> str:
    """It has nothing in common with the last good version, which had most of its lines from the one before."""
    if len(before) < 2:
        return ""
    heads = [set(text[:_LOOKED_AT].splitlines()) for text in (now, before[0])]
    if len(heads[0] & heads[1]) > len(heads[1]) * _ALIKE * 2:  # nearly always: all of it takes its time
        return ""
    here, last, older = ({line.strip() for line in text.splitlines() if line.strip()} for text in (now, *before[:2]))
    if len(last) < _FEW_LINES or len(here & last) > len(last) * _ALIKE or len(last & older) < len(last) * _HALF:
        return ""
    return f"is a different text: {len(here & last)} of {len(here)} lines are as in the last good version"


def _sections(text: bytes) -> frozenset[bytes]:
    """The names of what stands on the first level: elements, names of an object, or first words of headings."""
    start = text.lstrip()[:1]
    found = _elements(text) if start == b"<" else _names(text) if start == b"{" else None
    # One of several that are numbered may go.
    return frozenset(_NUMBERS.sub(b"#", name) for name in (_headings(text) if found is None else found))


def _elements(text: bytes) -> frozenset[bytes] | None:
    """The elements below the first one that holds several; None where it is no document."""
    levels: list[list[str]] = []
    depth = 0

    def begin(name: str, _: object) -> None:
        nonlocal depth
        if depth <= _DEEPEST_NAMES:
            while len(levels) <= depth:
                levels.append([])
            levels[depth].append(name)
        depth += 1

    def end(_: str) -> None:
        nonlocal depth
        depth -= 1

    parser = expat.ParserCreate()
    parser.StartElementHandler, parser.EndElementHandler = begin, end
    try:
        parser.Parse(text, True)
    except expat.ExpatError:
        return None
    several = next((names for names in levels[1:] if len(names) > 1), [])
    return frozenset(name.encode() for name in several)


def _names(text: bytes) -> frozenset[bytes] | None:
    try:
        data = msgspec.json.decode(text, type=dict[str, msgspec.Raw])
    except (msgspec.DecodeError, ValueError):
        return None
    return frozenset(name.encode() for name in data)


def _headings(text: bytes) -> frozenset[bytes]:
    """The first words of lines that others are indented below, and what stands in brackets as a line of its own."""
    found = set()
    heading: bytes | None = None
    for line in text.splitlines():
        if not line.strip():
            continue
        if line[:1] in b" \t" and heading is not None:
            found.add(heading)
            heading = None
        elif line[:1] not in b" \t}])":
            name = _NAME.match(line)
            heading = name[0] if name else None
            if heading is not None and heading.startswith(b"["):
                found.add(heading)
    return frozenset(found)


def _last_lines(text: bytes) -> list[bytes]:
    """The last three that say something, of the last piece of a text."""
    return [line for line in text[-_LOOKED_AT:].splitlines() if line.strip()][-3:]


def _last_line(text: bytes) -> bytes:
    return text.rstrip().rpartition(b"\n")[2]


def _shown(line: bytes) -> str:
    return line.strip().decode("utf-8", "replace")[:_SAID]
