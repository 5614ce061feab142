"""What changed: lines, outline, documents, archives, masks, and the forms in which a change is shown."""

from historon.compare.changes import Change, How, text_changes
from historon.compare.exports import Kind, PartChange, comparable, compare_exports, is_binary
from historon.compare.lines import Edit, align, split_lines
from historon.compare.marking import Marked, marked, side_by_side
from historon.compare.masks import Masks
from historon.compare.moves import Move, find_moves
from historon.compare.outline import Outline
from historon.compare.texts import align_texts
from historon.compare.unified import Hunk, Row, hunks, unified
from historon.compare.words import Span, edited_words, paired

__all__ = [
    "Change",
    "Edit",
    "How",
    "Hunk",
    "Kind",
    "Marked",
    "Masks",
    "Move",
    "Outline",
    "PartChange",
    "Row",
    "Span",
    "align",
    "align_texts",
    "comparable",
    "compare_exports",
    "edited_words",
    "find_moves",
    "hunks",
    "is_binary",
    "marked",
    "paired",
    "side_by_side",
    "split_lines",
    "text_changes",
    "unified",
]
