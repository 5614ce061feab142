"""Bringing back: to a folder, to where it was, as a tar."""

from historon.restore.lines import Reading, lines_between
from historon.restore.originals import Original, OriginalState, give_back, originals
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
