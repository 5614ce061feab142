"""What differs inside an edited line: the words that were replaced, when the lines are one and the same at heart."""

import re
from collections.abc import Iterator, Sequence
from difflib import SequenceMatcher

from historon.compare.lines import align

__all__ = ["Span", "edited_words", "paired"]

Span = tuple[int, int]
_WORD = re.compile(r"\w+|\s+|[^\w\s]")
_LONGEST = 2000  # characters of a line that is looked into
_MOST_PAIRS = 64  # removed times added lines of a block that are compared with each other
_ALIKE = 0.5  # how much of two lines must be the same for one to be the other, edited


def edited_words(old: str, new: str) -> tuple[list[Span], list[Span]]:
    """The stretches of the old and of the new line that differ, by characters; none when they have little in common."""
    if max(len(old), len(new)) > _LONGEST:
        return [], []
    left, right = list(_WORD.finditer(old)), list(_WORD.finditer(new))
    edits = align([word[0] for word in left], [word[0] for word in right])
    gone = [_span(left, edit.old_from, edit.old_to) for edit in edits if edit.old_to > edit.old_from]
    came = [_span(right, edit.new_from, edit.new_to) for edit in edits if edit.new_to > edit.new_from]
    stayed = len(old.replace(" ", "")) - sum(len(old[at:to].replace(" ", "")) for at, to in gone)
    if stayed < _ALIKE * max(len(old.replace(" ", "")), len(new.replace(" ", ""))) or not stayed:
        return [], []
    return gone, came


def _span(words: Sequence[re.Match[str]], first: int, end: int) -> Span:
    return words[first].start(), words[end - 1].end()


def paired(removed: Sequence[str], added: Sequence[str]) -> Iterator[tuple[int, int]]:
    """Which of the added lines each removed one became, in order: by place where they are as many, else by likeness."""
    if len(removed) == len(added):
        yield from zip(range(len(removed)), range(len(added)), strict=True)
        return
    if len(removed) * len(added) > _MOST_PAIRS or max(map(len, (*removed, *added)), default=0) > _LONGEST:
        return
    start = 0
    for index, line in enumerate(removed):
        scores = [SequenceMatcher(None, line, other, autojunk=False).ratio() for other in added[start:]]
        if scores and max(scores) >= _ALIKE:
            start += scores.index(max(scores)) + 1
            yield index, start - 1
