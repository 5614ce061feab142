"""Versions as they are named and looked at: SOURCE@WHEN, their contents, and secrets hidden from eyes."""

from typing import TYPE_CHECKING

from historon.base.lazily import lazily

if TYPE_CHECKING:
    from historon.versions.contents import (
        as_utf8,
        belongs_to,
        comparable,
        contents_of,
        is_binary,
        is_called,
        split_lines,
        stand_in,
        stands_for,
        too_large,
    )
    from historon.versions.masks import VALUE_KINDS, Masks
    from historon.versions.references import Reference, resolve
    from historon.versions.secrets import random_words
    from historon.versions.shown import ShownLines

__all__ = [
    "VALUE_KINDS",
    "Masks",
    "Reference",
    "ShownLines",
    "as_utf8",
    "belongs_to",
    "comparable",
    "contents_of",
    "is_binary",
    "is_called",
    "random_words",
    "resolve",
    "split_lines",
    "stand_in",
    "stands_for",
    "too_large",
]

__getattr__ = lazily(
    __name__,
    {
        "contents": [
            "as_utf8",
            "belongs_to",
            "comparable",
            "contents_of",
            "is_binary",
            "is_called",
            "split_lines",
            "stand_in",
            "stands_for",
            "too_large",
        ],
        "masks": ["Masks", "VALUE_KINDS"],
        "references": ["Reference", "resolve"],
        "secrets": ["random_words"],
        "shown": ["ShownLines"],
    },
)
