"""The lines that lead from what a source has to what it is to have, as somebody would type them at its command line.

They are calculated from the indentation alone, without knowing the platform: what is new comes before what uses it
could
miss it, what goes comes last, and a section is entered and left. What a line does is the platform's to say, so only the
next export shows whether all of it is as wanted.
"""

import re
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field

from historon.estate import Lines

__all__ = ["Reading", "lines_between"]

# What each line of a text says, noise aside; None for one that is noise.
Reading = Callable[[str], Sequence[str | None]]

_COMMENTS = ("!", "#")
_INDENT = "  "
_VERDICTS = {"permit", "deny", "allow", "accept", "drop", "reject", "block", "pass"}
_NUMBERED = re.compile(rf"(?:^|\s)(\d+)\s+(?:{'|'.join(sorted(_VERDICTS))})\b")
# A section may end with a word of its own: `exit-address-family`. A bare `end` leaves more than a section.
_ENDING = re.compile(r"(?:exit|end|quit)[-_]\S+")


@dataclass
class _Node:
    """A line as it stands, what it says, those that are deeper below it, and its own word to leave it."""

    line: str
    key: str
    below: list["_Node"] = field(default_factory=list)
    ending: str = ""


def lines_between(now: str, wanted: str, how: Lines, reading: Reading) -> list[str]:
    """The lines to type, indented as they belong; none when nothing is to be done.

    Comments, and lines that are noise by their `reading`, say nothing. ValueError where a line cannot be undone.
    """
    return [*_between(_tree(now, how, reading), _tree(wanted, how, reading), how, 0)]


def _tree(text: str, how: Lines, reading: Reading) -> list[_Node]:
    """The lines by their depth. What is said of one section in several places is said of it as a whole."""
    top = _Node("", "")
    known: dict[tuple[int, str], _Node] = {}  # by what they stand under, and what they say
    open_nodes = [(-1, top)]
    for line, key in zip(text.split("\n"), reading(text), strict=True):
        said = line.strip()
        if not said or said.startswith(_COMMENTS) or said == how.leave or key is None:
            continue
        depth = len(line) - len(line.lstrip())
        if _ENDING.fullmatch(said) and (section := _ended_by(open_nodes, depth)) is not None:
            section.ending = said
            continue
        while open_nodes[-1][0] >= depth:
            open_nodes.pop()
        above = open_nodes[-1][1]
        key = key.strip() or said
        node = known.get((id(above), key))
        if node is None:
            node = known[id(above), key] = _Node(said, key)
            above.below.append(node)
        open_nodes.append((depth, node))
    return top.below


def _ended_by(open_nodes: Sequence[tuple[int, _Node]], depth: int) -> _Node | None:
    """The section that a line of this depth ends: it stands under its heading, or beside it."""
    above = [node for at, node in open_nodes if 0 <= at < depth]
    beside = [node for at, node in open_nodes if at == depth and node.below]
    found = beside or above
    return found[-1] if found else None


def _between(now: Sequence[_Node], wanted: Sequence[_Node], how: Lines, depth: int) -> Iterator[str]:
    """What is another order or must go first, what is new, what is inside sections that stay, and then what goes."""
    there = {node.key: node for node in now}
    to_be = {node.key: node for node in wanted}
    anew = _out_of_order(now, wanted, depth)
    replaced = _replaced(now, wanted)
    order, first = _ordered(wanted, replaced, how)
    for key in [*anew, *first]:
        if key in there:
            yield _indented(_undone(there[key].line, how), depth)
    for node in order:
        if node.key not in there or node.key in anew:
            yield from _whole(node, how, depth)
    for node in wanted:
        before = there.get(node.key)
        if before is not None and (inside := [*_between(before.below, node.below, how, depth + 1)]):
            yield _indented(before.line, depth)
            yield from inside
            yield _indented(node.ending or before.ending or how.leave, depth + 1)
    gone = {one.key for one in replaced.values()}
    for node in now:
        if node.key not in to_be and node.key not in gone and node.key not in anew:
            yield _indented(_undone(node.line, how), depth)


def _whole(node: _Node, how: Lines, depth: int) -> Iterator[str]:
    yield _indented(node.line, depth)
    if node.below:
        for one in node.below:
            yield from _whole(one, how, depth + 1)
        yield _indented(node.ending or how.leave, depth + 1)


def _undone(line: str, how: Lines) -> str:
    """The line that undoes a line."""
    first, *second = how.negate
    if not second:
        if line.startswith(f"{first} "):
            return line.removeprefix(f"{first} ")
        return f"{first} {line}"
    if not line.startswith(f"{first} "):
        raise ValueError(f'nothing undoes "{line}": it does not begin with {first}')
    return f"{second[0]} {line.removeprefix(first).lstrip()}"


def _replaced(now: Sequence[_Node], wanted: Sequence[_Node]) -> dict[str, _Node]:
    """By each new line the one that it takes the place of: both say one thing, by words that only they begin with."""
    there, to_be = {node.key for node in now}, {node.key for node in wanted}
    gone = [node for node in now if not node.below and node.key not in to_be]
    came = [node for node in wanted if not node.below and node.key not in there]
    found: dict[str, _Node] = {}
    for one in gone:
        for other in came:
            shared = _shared(one.line, other.line)
            if shared and all(_count(side, shared) == 1 for side in (now, wanted)):
                found[other.key] = one
    return found


def _ordered(wanted: Sequence[_Node], replaced: Mapping[str, _Node], how: Lines) -> tuple[list[_Node], list[str]]:
    """The lines in the order in which they are typed, and the keys of those that have to be undone before.

    What some devices refuse is the same entry under two numbers: a line that says what another one said before comes
    behind the line that takes that one's place. Where this goes round in a circle, one of them is undone first; so is
    what a line only adds to, as the platform says (`adds`). A list in use is so never empty in between.
    """
    first = [one.key for one in replaced.values() if any(rule.search(one.line) for rule in how.adding)]
    after: dict[str, _Node] = {}  # by what a line said before that is replaced: the line that replaces it
    for node in wanted:
        if node.key in replaced:
            after[_rest(replaced[node.key], node)] = node
    order: list[_Node] = []
    state: dict[str, str] = {}

    def visit(node: _Node) -> None:
        if node.key in state:
            return
        state[node.key] = "begun"
        before = after.get(_rest(node, replaced[node.key])) if node.key in replaced else None
        if before is not None and before is not node:
            if state.get(before.key) == "begun":
                first.append(replaced[before.key].key)
            visit(before)
        state[node.key] = "done"
        order.append(node)

    for node in wanted:
        visit(node)
    return order, first


def _rest(node: _Node, other: _Node) -> str:
    """What a line says behind the words that it shares with another."""
    return node.line.removeprefix(_shared(node.line, other.line)).strip()


def _shared(line: str, other: str) -> str:
    words = []
    for one, two in zip(line.split(), other.split(), strict=False):
        if one != two:
            break
        words.append(one)
    return " ".join(words)


def _count(side: Sequence[_Node], words: str) -> int:
    return sum(f"{node.line} ".startswith(f"{words} ") for node in side)


def _out_of_order(now: Sequence[_Node], wanted: Sequence[_Node], depth: int) -> list[str]:
    """Lines of lists that come again, from the first out of place on: what is added comes to stand at the end.

    Where each entry has its number the order is that of the numbers, and each is replaced in its place.
    """
    found: list[str] = []
    for one, other in _lists(now, wanted, depth):
        kept = [line for line in one if line in other]
        if kept + [line for line in other if line not in one] == other or (_numbered(one) and _numbered(other)):
            continue
        same = 0
        while same < min(len(one), len(other)) and one[same] == other[same]:
            same += 1
        found += dict.fromkeys([*one[same:], *other[same:]])
    return found


def _numbered(lines: Sequence[str]) -> bool:
    """Whether each line that permits or denies has a number of its own."""
    numbers = [_NUMBERED.search(line) for line in lines if _decides(line)]
    return all(numbers) and len({one[1] for one in numbers if one}) == len(numbers)


def _lists(now: Sequence[_Node], wanted: Sequence[_Node], depth: int) -> Iterator[tuple[list[str], list[str]]]:
    """The lines of both sides whose order matters: those of lists that let through or hold back.

    In a section that is the whole of it, as it permits and denies by turns; otherwise the lines with one first word.
    The order of anything else is left alone: to take away what a line rests on, such as a route, could cut off who
    types it.
    """
    there = [node.key for node in now if not node.below]
    to_be = [node.key for node in wanted if not node.below]
    if depth:
        if any(map(_decides, [*there, *to_be])):
            yield there, to_be
        return
    words = [_first_word(line) for line in to_be if _decides(line)]
    for word in dict.fromkeys(words):
        yield (
            [line for line in there if _first_word(line) == word],
            [line for line in to_be if _first_word(line) == word],
        )


def _first_word(line: str) -> str:
    return line.split()[0]


def _decides(line: str) -> bool:
    return not _VERDICTS.isdisjoint(line.split())


def _indented(line: str, depth: int) -> str:
    return _INDENT * depth + line
