"""Why a copy and a store that contradict each other are left as they are: in the same words for every kind of copy."""

from pathlib import Path

from historon.base.errors import RefusedError

__all__ = ["ContradictionError", "another_store", "contradiction", "lost"]


class ContradictionError(RefusedError):
    """A version is one thing in the store and another in a copy, each whole: no copy is changed until it is settled."""


def another_store(place: Path | str, estate: str = "") -> RefusedError:
    """A copy belongs to another store, of the estate that it names."""
    of = f" (of the estate {estate})" if estate else ""
    return RefusedError(
        f"{place} holds the copy of another store{of}; it was not changed", hint="give this copy another folder"
    )


def lost(place: Path | str, what: str) -> RefusedError:
    """A copy has what the store neither has nor removed on record."""
    hint = "the store lost versions or was rolled back. Find out why first; the copy was not changed"
    return RefusedError(f"{place} {what}", hint=hint)


def contradiction(place: Path | str, source: str, number: int) -> ContradictionError:
    """A copy holds, whole, something else under the number of a version."""
    return ContradictionError(
        f"{source}@{number} differs between the store and {place}; no copy was changed",
        hint="a version never changes: historon copies --compare shows which places agree",
    )
