"""Words of the estate file that were other ones before: a mistake that uses one of them names the word of today."""

from collections.abc import Container, Mapping

__all__ = ["renamed"]

_RENAMED: Mapping[str, str] = {
    "promise": "max_age",
    "expect": "check",
    "expectations": "requirements",
    "keys": "known_by",
    "but_not": "except",
    "remind": "tell_again",
    "at_once": "immediately",
    "go on": "continue",
    "promise-broken": "overdue",
    "still-broken": "still-overdue",
    "promise-kept": "fresh-again",
    "expectation-broken": "requirement-failed",
    "expectation-mended": "requirement-met",
    "audit-damage": "store-damaged",
    "audit-well": "store-verified",
    "left-paused": "not-resumed",
    "round-refused": "collecting-blocked",
    "rounds-again": "collecting-again",
}


def renamed(word: str, known: Container[str], table: str = "") -> str:
    """A hint with the word that took the place of this one, if it is among the known ones; empty for none."""
    new = "max_lag" if word == "promise" and table == "copies" else _RENAMED.get(word)
    return f'it is "{new}" now' if new in known else ""
