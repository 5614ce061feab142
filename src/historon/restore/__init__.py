"""Restoring: to a folder, to the original paths, as a tar; and proving versions, and the lines of a push."""

from typing import TYPE_CHECKING

from historon.base.lazily import lazily

if TYPE_CHECKING:
    from historon.restore.in_place import Original, OriginalState, give_back, originals
    from historon.restore.lines import Reading, lines_between
    from historon.restore.proof import prove, prove_by_itself
    from historon.restore.sections import with_section
    from historon.restore.tars import add_to_tar, opened_tar
    from historon.restore.writing import Naming, Restored, write_version

__all__ = [
    "Naming",
    "Original",
    "OriginalState",
    "Reading",
    "Restored",
    "add_to_tar",
    "give_back",
    "lines_between",
    "opened_tar",
    "originals",
    "prove",
    "prove_by_itself",
    "with_section",
    "write_version",
]

__getattr__ = lazily(
    __name__,
    {
        "lines": ["Reading", "lines_between"],
        "in_place": ["Original", "OriginalState", "give_back", "originals"],
        "proof": ["prove", "prove_by_itself"],
        "sections": ["with_section"],
        "tars": ["add_to_tar", "opened_tar"],
        "writing": ["Naming", "Restored", "write_version"],
    },
)
