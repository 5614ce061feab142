"""What may have been meant by a word that is not known."""

import difflib
from collections.abc import Iterable

__all__ = ["nearest"]

_MOST = 12  # valid words that a hint names


def nearest(word: str, known: Iterable[str]) -> str:
    """A hint with the nearest valid spelling, or with what is valid where nothing is near."""
    names = sorted(known)
    near = difflib.get_close_matches(word.lower(), names, n=1, cutoff=0.5)
    if near:
        return f'did you mean "{near[0]}"?'
    if not names:
        return ""
    more = " …" if len(names) > _MOST else ""
    return f"one of {', '.join(names[:_MOST])}{more}"
