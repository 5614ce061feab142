"""Versions at rest: contents, ledger, integrity, and the names by which versions are called."""

from historon.store.folder import LEDGER, FolderStore
from historon.store.interface import (
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

__all__ = [
    "LEDGER",
    "Entry",
    "FolderStore",
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
    "resolve",
]
