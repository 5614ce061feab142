"""Second places that hold the versions too."""

from typing import TYPE_CHECKING

from historon.base.lazily import lazily

if TYPE_CHECKING:
    from historon.copies.comparing import THE_STORE, Compared, ComparedVersion, compare_places
    from historon.copies.finding import AtHand, copy_at_hand, store_from
    from historon.copies.removals import confirm_removals
    from historon.copies.status import (
        CopyStatus,
        bring_up_to_date,
        copies_of,
        fetch_copy,
        forget_copies,
        heed_in_time,
        note_copied,
        note_refused,
        note_verified,
        verify_copy,
    )

__all__ = [
    "THE_STORE",
    "AtHand",
    "Compared",
    "ComparedVersion",
    "CopyStatus",
    "bring_up_to_date",
    "compare_places",
    "confirm_removals",
    "copies_of",
    "copy_at_hand",
    "fetch_copy",
    "forget_copies",
    "heed_in_time",
    "note_copied",
    "note_refused",
    "note_verified",
    "store_from",
    "verify_copy",
]

__getattr__ = lazily(
    __name__,
    {
        "comparing": ["Compared", "ComparedVersion", "THE_STORE", "compare_places"],
        "finding": ["AtHand", "copy_at_hand", "store_from"],
        "removals": ["confirm_removals"],
        "status": [
            "CopyStatus",
            "bring_up_to_date",
            "copies_of",
            "fetch_copy",
            "forget_copies",
            "heed_in_time",
            "note_copied",
            "note_refused",
            "note_verified",
            "verify_copy",
        ],
    },
)
