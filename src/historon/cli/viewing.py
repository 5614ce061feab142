"""What commands that show contents have in common."""

from historon.compare import Masks
from historon.estate import Estate
from historon.store import Store

__all__ = ["masks_for"]


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
