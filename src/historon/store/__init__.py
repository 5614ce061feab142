"""Versions at rest: contents, ledger, integrity, and the names by which versions are called."""

from historon.store.folder import LEDGER, FolderStore
from historon.store.interface import (
    LARGE,
    Changed,
    Entry,
    Outcome,
    Part,
    Recorded,
    Round,
    SourceState,
    State,
    Store,
    StoredPart,
    Version,
    Visit,
)
from historon.store.references import Reference, resolve
from historon.store.trees import Member, read_tree, tree_part_name, written_tree

__all__ = [
    "LARGE",
    "LEDGER",
    "Changed",
    "Entry",
    "FolderStore",
    "Member",
    "Outcome",
    "Part",
    "Recorded",
    "Reference",
    "Round",
    "SourceState",
    "State",
    "Store",
    "StoredPart",
    "Version",
    "Visit",
    "read_tree",
    "resolve",
    "tree_part_name",
    "written_tree",
]
