"""What changed: lines, outline, documents, archives, masks, and the forms in which a change is shown."""

from historon.compare.archives import is_archive
from historon.compare.changes import Change, How, folded, outlines_of, text_changes
from historon.compare.estatewide import Family, Variant, families, fingerprinted, variants
from historon.compare.exports import (
    Kind,
    PartChange,
    comparable,
    compare_exports,
    contents_of,
    is_binary,
    is_called,
    too_large,
)
from historon.compare.families import (
    Fingerprint,
    Reader,
    each_fingerprint,
    fingerprint,
    fingerprints,
    grave_first,
    is_packed,
    packed,
    texts_of,
    unpacked_fingerprints,
)
from historon.compare.finding import Event, Hit, Life, Query, Search, Traced, find, find_ever, trace
from historon.compare.lines import Edit, align, split_lines
from historon.compare.marking import Marked, marked, side_by_side
from historon.compare.masks import Masks
from historon.compare.moves import Move, find_moves
from historon.compare.opening import large_archives
from historon.compare.outline import Outline, section_of
from historon.compare.requirements import Unmet, news_of, unmet
from historon.compare.secrets import random_words
from historon.compare.signatures import may_hold, pieces_of_expression, pieces_of_text, signature
from historon.compare.studying import Hidden, Proposal, study
from historon.compare.texts import align_texts
from historon.compare.typical import Oddity, Typical, typical
from historon.compare.unified import Hunk, Row, hunks, unified
from historon.compare.weights import GRAVE, Concern, Weight, Weights
from historon.compare.words import Span, edited_words, paired

__all__ = [
    "GRAVE",
    "Change",
    "Concern",
    "Edit",
    "Event",
    "Family",
    "Fingerprint",
    "Hidden",
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
    "Proposal",
    "Query",
    "Reader",
    "Row",
    "Search",
    "Span",
    "Traced",
    "Typical",
    "Unmet",
    "Variant",
    "Weight",
    "Weights",
    "align",
    "align_texts",
    "comparable",
    "compare_exports",
    "contents_of",
    "each_fingerprint",
    "edited_words",
    "families",
    "find",
    "find_ever",
    "find_moves",
    "fingerprint",
    "fingerprinted",
    "fingerprints",
    "folded",
    "grave_first",
    "hunks",
    "is_archive",
    "is_binary",
    "is_called",
    "is_packed",
    "large_archives",
    "marked",
    "may_hold",
    "news_of",
    "outlines_of",
    "packed",
    "paired",
    "pieces_of_expression",
    "pieces_of_text",
    "random_words",
    "section_of",
    "side_by_side",
    "signature",
    "split_lines",
    "study",
    "text_changes",
    "texts_of",
    "too_large",
    "trace",
    "typical",
    "unified",
    "unmet",
    "unpacked_fingerprints",
    "variants",
]
