"""What changed between two: lines, outline, documents, archives, and the forms in which a change is shown."""

from typing import TYPE_CHECKING

from historon.base.lazily import lazily

if TYPE_CHECKING:
    from historon.compare.archives import ArchiveError, is_archive, unpacked
    from historon.compare.areas import area_of
    from historon.compare.changes import Change, How, folded, outlines_of, text_changes
    from historon.compare.documents import parse_document
    from historon.compare.exports import Kind, PartChange, compare_exports, readings
    from historon.compare.lines import Edit, align
    from historon.compare.marking import Marked, marked, side_by_side
    from historon.compare.moves import Move, find_moves
    from historon.compare.opening import large_archives
    from historon.compare.outline import Outline, outline_of, places_under, section_of
    from historon.compare.patches import Hunk, Row, hunks, unified
    from historon.compare.texts import align_texts
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
    "outline_of",
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

__getattr__ = lazily(
    __name__,
    {
        "archives": ["ArchiveError", "is_archive", "unpacked"],
        "areas": ["area_of"],
        "changes": ["Change", "How", "folded", "outlines_of", "text_changes"],
        "documents": ["parse_document"],
        "exports": ["Kind", "PartChange", "compare_exports", "readings"],
        "lines": ["Edit", "align"],
        "marking": ["Marked", "marked", "side_by_side"],
        "moves": ["Move", "find_moves"],
        "opening": ["large_archives"],
        "outline": ["Outline", "outline_of", "places_under", "section_of"],
        "texts": ["align_texts"],
        "patches": ["Hunk", "Row", "hunks", "unified"],
        "words": ["Span", "edited_words", "paired"],
    },
)
