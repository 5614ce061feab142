"""What commands that show contents have in common."""

from historon.compare import Masks, Query
from historon.errors import UsageError
from historon.estate import Estate
from historon.store import Store

__all__ = ["masks_for", "query_of"]


def masks_for(
    estate: Estate, store: Store, source: str, *, reveal: bool = False, with_noise: bool = False,
    ignore_case: bool = False, ignore_space: bool = False,
) -> Masks:  # fmt: skip
    """The masks of a source's procedure; the general ones alone for a source that the estate file no longer has."""
    known = estate.sources.get(source)
    procedure = estate.procedure_of(known) if known else None
    return Masks.of(
        procedure, key=store.fingerprint_key(), reveal=reveal, with_noise=with_noise, ignore_case=ignore_case,
        ignore_space=ignore_space,
    )  # fmt: skip


def query_of(text: str, *, expression: bool, exact_case: bool) -> Query:
    """The query, checked; UsageError says what is wrong with it."""
    query = Query(text, expression=expression, exact_case=exact_case)
    if not text or "\n" in text:
        raise UsageError("a text to find is part of one line", hint="historon find 10.20.0.9")
    try:
        query.pattern()
    except ValueError as exc:
        raise UsageError(f'"{text}": {exc}', hint="leave out -e to look for the text as it stands") from exc
    return query
