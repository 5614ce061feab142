"""What changed: lines, sections, masks, and the forms in which a change is shown."""

from historon.compare.exports import Kind, PartChange, comparable, compare_exports, is_binary
from historon.compare.lines import Edit, align, split_lines
from historon.compare.masks import Masks
from historon.compare.unified import Hunk, Row, hunks, unified
from historon.compare.words import Span, edited_words, paired

__all__ = [
    "Edit",
    "Hunk",
    "Kind",
    "Masks",
    "PartChange",
    "Row",
    "Span",
    "align",
    "comparable",
    "compare_exports",
    "edited_words",
    "hunks",
    "is_binary",
    "paired",
    "split_lines",
    "unified",
]
