"""Versions at rest: contents, ledger, integrity, and the names by which versions are called."""

from historon.store.encoding import DamagedError, pack, unpack_pieces
from historon.store.interface import (
    ESTATE,
    LARGE,
    PAUSED,
    PUSHING,
    SKEW,
    Approval,
    Changed,
    Copied,
    Entry,
    Followed,
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
    digest_of_names,
    version_digest,
)
from historon.store.losses import accept_losses, losses_of, note_losses
from historon.store.opening import create_store, open_store
from historon.store.outbox import Notice, NoticeState, Outbox, Pending
from historon.store.pauses import StillPaused, still_paused
from historon.store.proofs import Proof, last_proofs, note_proof, proofs_of
from historon.store.pushes import Unfinished, note_push, unfinished_pushes
from historon.store.sqlite.bare import BareLedger, Kept
from historon.store.sqlite.folder import FolderStore
from historon.store.sqlite.rescue import rescue
from historon.store.sqlite.transactions import LEDGER
from historon.store.trees import Member, is_tree_name, name_of, raw_name, read_tree, tree_part_name, written_tree
from historon.store.verification import Damage, Verification, verify

__all__ = [
    "ESTATE",
    "LARGE",
    "LEDGER",
    "PAUSED",
    "PUSHING",
    "SKEW",
    "Approval",
    "BareLedger",
    "Changed",
    "Copied",
    "Damage",
    "DamagedError",
    "Entry",
    "FolderStore",
    "Followed",
    "Kept",
    "Member",
    "Notice",
    "NoticeState",
    "Outbox",
    "Outcome",
    "Part",
    "Pending",
    "Proof",
    "Recorded",
    "Removal",
    "Removed",
    "Round",
    "SourceState",
    "State",
    "StillPaused",
    "Store",
    "StoredPart",
    "Unfinished",
    "Verification",
    "Version",
    "Visit",
    "accept_losses",
    "create_store",
    "digest_of_names",
    "is_tree_name",
    "last_proofs",
    "losses_of",
    "name_of",
    "note_losses",
    "note_proof",
    "note_push",
    "open_store",
    "pack",
    "proofs_of",
    "raw_name",
    "read_tree",
    "rescue",
    "still_paused",
    "tree_part_name",
    "unfinished_pushes",
    "unpack_pieces",
    "verify",
    "version_digest",
    "written_tree",
]
