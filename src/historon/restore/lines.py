"""The lines that lead from what a source has to what it is to have, as somebody would type them at its command line.

They are reckoned from the indentation alone, without knowing the platform: what is new comes before what uses it could
miss it, what goes comes last, and a section is entered and left. What a line does is the platform's to say, so only the
next export shows whether all of it is as wanted.
"""

from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, field

from historon.estate import Lines

__all__ = ["lines_between"]

_COMMENTS = ("!", "#")
_INDENT = "  "
_VERDICTS = {"permit", "deny", "allow", "accept", "drop", "reject", "block", "pass"}


@dataclass
class _Node:
    """A line, with those that are deeper below it."""

    line: str
    below: list["_Node"] = field(default_factory=list)


def lines_between(now: str, wanted: str, how: Lines, passed_over: Callable[[str], bool]) -> list[str]:
    """The lines to type, indented as they belong; none when nothing is to be done.

    Comments, and lines that are `passed_over`, say nothing. ValueError where a line cannot be undone.
    """
    return [*_between(_tree(now, how, passed_over), _tree(wanted, how, passed_over), how, 0)]


def _tree(text: str, how: Lines, passed_over: Callable[[str], bool]) -> list[_Node]:
    """The lines by their depth. What is said of one section in several places is said of it as a whole."""
    top = _Node("")
    known: dict[tuple[int, str], _Node] = {}  # by what they stand under, and what they say
    open_nodes = [(-1, top)]
    for line in text.split("\n"):
        said = line.strip()
        if not said or said.startswith(_COMMENTS) or said == how.leave or passed_over(line):
            continue
        depth = len(line) - len(line.lstrip())
        while open_nodes[-1][0] >= depth:
            open_nodes.pop()
        above = open_nodes[-1][1]
        node = known.get((id(above), said))
        if node is None:
            node = known[id(above), said] = _Node(said)
            above.below.append(node)
        open_nodes.append((depth, node))
    return top.below


def _between(now: Sequence[_Node], wanted: Sequence[_Node], how: Lines, depth: int) -> Iterator[str]:
    """What is new, what is another order, what is inside sections that stay, and then what goes."""
    there = {node.line: node for node in now}
    to_be = {node.line: node for node in wanted}
    anew = _out_of_order(now, wanted, depth)
    for line in anew:
        if line in there:
            yield _indented(_undone(line, how), depth)
    for node in wanted:
        if node.line not in there or node.line in anew:
            yield from _whole(node, how, depth)
    for node in wanted:
        before = there.get(node.line)
        if before is not None and (inside := [*_between(before.below, node.below, how, depth + 1)]):
            yield _indented(node.line, depth)
            yield from inside
            yield _indented(how.leave, depth + 1)
    replaced = _replaced(now, wanted)
    for node in now:
        if node.line not in to_be and node.line not in replaced and node.line not in anew:
            yield _indented(_undone(node.line, how), depth)


def _whole(node: _Node, how: Lines, depth: int) -> Iterator[str]:
    yield _indented(node.line, depth)
    if node.below:
        for one in node.below:
            yield from _whole(one, how, depth + 1)
        yield _indented(how.leave, depth + 1)


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


def _replaced(now: Sequence[_Node], wanted: Sequence[_Node]) -> set[str]:
    """Lines that another takes the place of: both say one thing, by the words that they share and nobody else has."""
    there, to_be = {node.line for node in now}, {node.line for node in wanted}
    gone = [node.line for node in now if not node.below and node.line not in to_be]
    came = [node.line for node in wanted if not node.below and node.line not in there]
    found = set()
    for line in gone:
        for other in came:
            shared = _shared(line, other)
            if shared and all(_count(side, shared) == 1 for side in (now, wanted)):
                found.add(line)
    return found


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
    """Lines of lists that come anew, from the first out of place on: what is added comes to stand at the end."""
    found: list[str] = []
    for one, other in _lists(now, wanted, depth):
        kept = [line for line in one if line in other]
        if kept + [line for line in other if line not in one] == other:
            continue
        same = 0
        while same < min(len(one), len(other)) and one[same] == other[same]:
            same += 1
        found += dict.fromkeys([*one[same:], *other[same:]])
    return found


def _lists(now: Sequence[_Node], wanted: Sequence[_Node], depth: int) -> Iterator[tuple[list[str], list[str]]]:
    """The lines of both sides whose order matters: those of lists that let through or hold back.

    In a section that is the whole of it, as it permits and denies by turns; otherwise the lines with one first word.
    The order of anything else is left alone: to take away what a line rests on, such as a route, could cut off who
    types it.
    """
    there = [node.line for node in now if not node.below]
    to_be = [node.line for node in wanted if not node.below]
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
