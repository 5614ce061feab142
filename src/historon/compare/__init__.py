"""What changed between two: lines, outline, documents, archives, and the forms in which a change is shown."""

from historon.compare.archives import ArchiveError, is_archive, unpacked
from historon.compare.areas import area_of
from historon.compare.changes import Change, How, folded, outlines_of, text_changes
from historon.compare.documents import parse_document
from historon.compare.exports import Kind, PartChange, compare_exports, readings
from historon.compare.lines import Edit, align
from historon.compare.marking import Marked, marked, side_by_side
from historon.compare.moves import Move, find_moves
from historon.compare.opening import large_archives
from historon.compare.outline import Outline, places_under, section_of
from historon.compare.texts import align_texts
from historon.compare.unified import Hunk, Row, hunks, unified
from historon.compare.words import Span, edited_words, paired

__all__ = [
    "ArchiveError",
    "Change",
    "Edit",
    "How",
    "Hunk",
    "Kind",
    "Marked",
    "Move",
    "Outline",
    "PartChange",
    "Row",
    "Span",
    "align",
    "align_texts",
    "area_of",
    "compare_exports",
    "edited_words",
    "find_moves",
    "folded",
    "hunks",
    "is_archive",
    "large_archives",
    "marked",
    "outlines_of",
    "paired",
    "parse_document",
    "places_under",
    "readings",
    "section_of",
    "side_by_side",
    "text_changes",
    "unified",
    "unpacked",
]
