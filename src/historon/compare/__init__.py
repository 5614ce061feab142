"""What changed: lines, sections, masks, and the forms in which a change is shown."""

from historon.compare.exports import Kind, PartChange, comparable, compare_exports, is_binary
from historon.compare.lines import Edit, align, split_lines
from historon.compare.masks import Masks
from historon.compare.unified import Hunk, Row, hunks, unified

__all__ = [
    "Edit",
    "Hunk",
    "Kind",
    "Masks",
    "PartChange",
    "Row",
    "align",
    "comparable",
    "compare_exports",
    "hunks",
    "is_binary",
    "split_lines",
    "unified",
]
