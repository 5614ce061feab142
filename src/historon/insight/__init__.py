"""What changes mean over many versions and sources: families, weights, outliers, search, noise, requirements."""

from typing import TYPE_CHECKING

from historon.base.lazily import lazily

if TYPE_CHECKING:
    from historon.insight.estatewide import Family, Variant, families, fingerprinted, variants
    from historon.insight.family import (
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
    from historon.insight.noise import Hidden, Proposal, study
    from historon.insight.outliers import Oddity, Typical, typical
    from historon.insight.requirements import Unmet, news_of, unmet
    from historon.insight.search import Event, Hit, Life, Query, Search, Traced, find, find_ever, trace
    from historon.insight.search_index import may_hold, pieces_of_expression, pieces_of_text, signature
    from historon.insight.weights import GRAVE, Concern, Weight, Weights

__all__ = [
    "GRAVE",
    "Concern",
    "Event",
    "Family",
    "Fingerprint",
    "Hidden",
    "Hit",
    "Life",
    "Oddity",
    "Proposal",
    "Query",
    "Reader",
    "Search",
    "Traced",
    "Typical",
    "Unmet",
    "Variant",
    "Weight",
    "Weights",
    "each_fingerprint",
    "families",
    "find",
    "find_ever",
    "fingerprint",
    "fingerprinted",
    "fingerprints",
    "grave_first",
    "is_packed",
    "may_hold",
    "news_of",
    "packed",
    "pieces_of_expression",
    "pieces_of_text",
    "signature",
    "study",
    "texts_of",
    "trace",
    "typical",
    "unmet",
    "unpacked_fingerprints",
    "variants",
]

__getattr__ = lazily(
    __name__,
    {
        "estatewide": ["Family", "Variant", "families", "fingerprinted", "variants"],
        "family": [
            "Fingerprint",
            "Reader",
            "each_fingerprint",
            "fingerprint",
            "fingerprints",
            "grave_first",
            "is_packed",
            "packed",
            "texts_of",
            "unpacked_fingerprints",
        ],
        "noise": ["Hidden", "Proposal", "study"],
        "outliers": ["Oddity", "Typical", "typical"],
        "requirements": ["Unmet", "news_of", "unmet"],
        "search": ["Event", "Hit", "Life", "Query", "Search", "Traced", "find", "find_ever", "trace"],
        "search_index": ["may_hold", "pieces_of_expression", "pieces_of_text", "signature"],
        "weights": ["Concern", "GRAVE", "Weight", "Weights"],
    },
)
