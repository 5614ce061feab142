"""What changed: lines, outline, documents, archives, masks, and the forms in which a change is shown."""

from historon.compare.changes import Change, How, text_changes
from historon.compare.estatewide import Family, Variant, families, fingerprinted, variants
from historon.compare.exports import Kind, PartChange, comparable, compare_exports, is_binary, is_called, too_large
from historon.compare.families import (
    Concern,
    Fingerprint,
    Plain,
    fingerprint,
    fingerprints,
    packed,
    unpacked_fingerprints,
)
from historon.compare.finding import Event, Hit, Life, Query, find, find_ever, too_large_to_find, trace
from historon.compare.lines import Edit, align, split_lines
from historon.compare.marking import Marked, marked, side_by_side
from historon.compare.masks import Masks
from historon.compare.moves import Move, find_moves
from historon.compare.outline import Outline, section_of
from historon.compare.requirements import Unmet, news_of, requirements_of, same_rules, unmet
from historon.compare.signatures import (
    may_hold,
    pieces_of_expression,
    pieces_of_text,
    searchable,
    signature,
)
from historon.compare.studying import Proposal, study
from historon.compare.texts import align_texts
from historon.compare.typical import Oddity, Typical, typical
from historon.compare.unified import Hunk, Row, hunks, unified
from historon.compare.words import Span, edited_words, paired

__all__ = [
    "Change",
    "Concern",
    "Edit",
    "Event",
    "Family",
    "Fingerprint",
    "Hit",
    "How",
    "Hunk",
    "Kind",
    "Life",
    "Marked",
    "Masks",
    "Move",
    "Oddity",
    "Outline",
    "PartChange",
    "Plain",
    "Proposal",
    "Query",
    "Row",
    "Span",
    "Typical",
    "Unmet",
    "Variant",
    "align",
    "align_texts",
    "comparable",
    "compare_exports",
    "edited_words",
    "families",
    "find",
    "find_ever",
    "find_moves",
    "fingerprint",
    "fingerprinted",
    "fingerprints",
    "hunks",
    "is_binary",
    "is_called",
    "marked",
    "may_hold",
    "news_of",
    "packed",
    "paired",
    "pieces_of_expression",
    "pieces_of_text",
    "requirements_of",
    "same_rules",
    "searchable",
    "section_of",
    "side_by_side",
    "signature",
    "split_lines",
    "study",
    "text_changes",
    "too_large",
    "too_large_to_find",
    "trace",
    "typical",
    "unified",
    "unmet",
    "unpacked_fingerprints",
    "variants",
]
