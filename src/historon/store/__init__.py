"""Versions at rest: contents, ledger, integrity, and the names by which versions are called."""

from historon.store.interface import (
    ESTATE,
    LARGE,
    PAUSED,
    SKEW,
    Changed,
    Copied,
    Entry,
    Outcome,
    Part,
    Recorded,
    Removal,
    Removed,
    Round,
    SourceState,
    State,
    Store,
    StoredPart,
    Version,
    Visit,
)
from historon.store.opening import create_store, open_store
from historon.store.outbox import Notice, NoticeState, Outbox, Pending
from historon.store.pauses import StillPaused, still_paused
from historon.store.sqlite.folder import FolderStore
from historon.store.sqlite.transactions import LEDGER
from historon.store.trees import Member, name_of, raw_name, read_tree, tree_part_name, written_tree
from historon.store.verification import Damage, Verification, verify

__all__ = [
    "ESTATE",
    "LARGE",
    "LEDGER",
    "PAUSED",
    "SKEW",
    "Changed",
    "Copied",
    "Damage",
    "Entry",
    "FolderStore",
    "Member",
    "Notice",
    "NoticeState",
    "Outbox",
    "Outcome",
    "Part",
    "Pending",
    "Recorded",
    "Removal",
    "Removed",
    "Round",
    "SourceState",
    "State",
    "StillPaused",
    "Store",
    "StoredPart",
    "Verification",
    "Version",
    "Visit",
    "create_store",
    "name_of",
    "open_store",
    "raw_name",
    "read_tree",
    "still_paused",
    "tree_part_name",
    "verify",
    "written_tree",
]
