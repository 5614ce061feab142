"""What matters first: how grave it is that something came, went or was edited, and why, in a word.

The rules are data: those of `weight_rules` and those of the estate file, written alike.
"""

import re
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass
from enum import IntEnum
from functools import cache, lru_cache

from historon.compare import Change, How
from historon.estate import Expression, WeightRule

__all__ = ["GRAVE", "Concern", "Weight", "Weights"]

GRAVE = 6  # of nine
_LONGEST = 1_000  # characters of a line that are looked at
_MOST_LINES = 100  # of a section that came or went


class Concern(IntEnum):
    """What a change is about, as the ledger keeps it."""

    REMARK = 0
    OTHER = 1
    ROUTE = 2
    SECRET = 3
    ACCESS = 4

    @property
    def word(self) -> str:
        """What it is called: `access`, `secret`, `route` or `other`."""
        return self.name.lower() if self > Concern.OTHER else "other"


@dataclass(frozen=True, order=True)
class Weight:
    """How much a change matters, from 0 for a remark to 9; what it is about; and why it matters, where that is known.

    `why` may be empty.
    """

    number: int
    concern: Concern
    why: str = ""

    @property
    def warning(self) -> str:
        """Why, where that is grave; empty otherwise."""
        return self.why if self.number >= GRAVE else ""


@dataclass(frozen=True)
class _Rule:
    """The words by their pattern; what it weighs and why that they came, that they went, and that they stayed."""

    concern: Concern
    pattern: Expression
    came: tuple[int, str]
    gone: tuple[int, str]
    edited: tuple[int, str]


@cache
def _shipped() -> Sequence[_Rule]:
    """The rules that come with the tool."""
    from historon.insight.weight_rules import WEIGHTS, WORDS

    made = []
    for one in WEIGHTS:
        pattern = str(one["pattern"])
        for name, words in WORDS.items():
            pattern = pattern.replace(f"{{{name}}}", words)
        weights = ((int(number), str(why)) for number, why in (one.get(how, (0, "")) for how in _HOW))
        made.append(_Rule(Concern[str(one["about"]).upper()], Expression(pattern.encode()), *weights))
    return made


@cache
def _any_shipped() -> Expression:
    """What any of them finds: most lines are about nothing that they know."""
    return Expression(b"|".join(b"(?:%s)" % rule.pattern.written for rule in _shipped()))


_HOW = ("added", "removed", "edited")
_BECAME: Sequence[tuple[Expression, str]] = (
    (
        Expression(rb"\b(?:deny|drop|reject|block|discard|refuse)\b.* \x00 .*\b(?:permit|allow|accept|pass)\b"),
        "deny became permit",
    ),
)
_SLIGHT_WORDS = "(?:description|descr|remark|comment|note|label|banner|alias|contact|location|motd)"
# What is only described: by the setting that a path ends with, or by one of the first words of a line.
_SLIGHT_SETTING = re.compile(rf"(?:^|[\W_]){_SLIGHT_WORDS}$", re.IGNORECASE)
_SLIGHT_LINE = re.compile(rf"[^\w]*(?:[\w-]+\s+)?(?:\d+\s+)?{_SLIGHT_WORDS}\b", re.IGNORECASE)
_TAKES_BACK = re.compile(r"(?:no|undo|unset|delete)\s+(?=[a-z])", re.IGNORECASE)
_PLAIN = Weight(2, Concern.OTHER)
_SMALL = Weight(0, Concern.REMARK)


class Weights:
    """What changes weigh, by the rules that come with the tool and by an estate's own."""

    def __init__(self, own: Iterable[WeightRule] = ()) -> None:
        """`own` are those of the estate file; they are met in capitals and small letters as they are written."""
        self._own = [
            _Rule(Concern[one.about.upper()], one.pattern.compiled, one.added, one.removed, one.edited) for one in own
        ]

    def of(self, change: Change) -> Weight:
        """What a change weighs: as much as the gravest line of it."""
        if change.how is How.UNRESOLVED:
            return Weight(9, Concern.OTHER, "leads nowhere")
        return max(self._found(change), key=lambda one: one.number, default=_PLAIN)

    def of_line(self, line: str) -> Weight:
        """What it weighs that a line came."""
        return max(self._line("", "", line), key=lambda one: one.number, default=_PLAIN)

    def _found(self, change: Change) -> Iterator[Weight]:
        yield from self._line(change.path, change.old, change.new, moved=change.how is How.MOVED)
        below = f"{change.path} / {change.old or change.new}" if change.path else change.old or change.new
        for line in change.under[:_MOST_LINES]:
            old, new = ("", line) if change.how is How.ADDED else (line, "")
            yield from self._line(below, old, new)

    def _line(self, path: str, old: str, new: str, *, moved: bool = False) -> Iterator[Weight]:
        path, old, new = path[:_LONGEST], old[:_LONGEST], new[:_LONGEST]
        yield from self._met_own(path, old, new)
        yield _met(path, old, new, moved=moved)

    def _met_own(self, path: str, old: str, new: str) -> Iterator[Weight]:
        for rule in self._own:
            yield from _by(rule, *(_line(path, text) if text else None for text in (old, new)))


def _line(path: str, text: str) -> bytes:
    return (f"{path} / {text}" if path else text).encode("utf-8", "replace")


@lru_cache(maxsize=4096)
def _met(path: str, old: str, new: str, *, moved: bool) -> Weight:
    """The gravest of the rules that come with the tool."""
    if _SLIGHT_SETTING.search(path) or _SLIGHT_LINE.match(new or old):
        return _SMALL
    sides: list[bytes | None] = [_line(path, text).lower() if text else None for text in (old, new)]
    takes_back = [_TAKES_BACK.match(text) is not None for text in (old, new)]
    if moved:
        sides[0] = sides[1]
    elif takes_back[0] != takes_back[1]:
        sides = [_taking_back(path, text, other) for text, other in ((old, new), (new, old))]
    if not any(side is not None and _any_shipped().search(side) for side in sides):
        return _PLAIN
    found = [weight for rule in _shipped() for weight in _by(rule, *sides)]
    if sides[0] is not None and sides[1] is not None and not moved:
        both = sides[0] + b" \x00 " + sides[1]
        found += [Weight(9, Concern.ACCESS, why) for pattern, why in _BECAME if pattern.search(both)]
    return max(found, key=lambda one: one.number, default=_PLAIN)


def _taking_back(path: str, text: str, other: str) -> bytes | None:
    """One side of a line where one side takes back what it names: there that is gone, and on the other side it was."""
    if _TAKES_BACK.match(other):
        named = _TAKES_BACK.sub("", other, count=1)
        return _line(path, named).lower()
    return None if not text or _TAKES_BACK.match(text) else _line(path, text).lower()


def _by(rule: _Rule, old: bytes | None, new: bytes | None) -> Iterator[Weight]:
    """What a rule says of a line that became another, came or went."""
    was, now = (text is not None and rule.pattern.search(text) is not None for text in (old, new))
    if not was and not now:
        return
    number, why = rule.came if now else rule.gone
    if was and now:
        number, why = rule.edited
    if number:
        yield Weight(number, rule.concern, why)
