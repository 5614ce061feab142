"""A glance at a store's file that changes nothing in it, as opening it may: to whom it belongs, how far it has come."""

import sqlite3
from contextlib import closing
from pathlib import Path
from urllib.parse import quote

from historon.base.errors import StoreError

__all__ = ["glance_at"]

_WAIT_S = 0.1  # for whoever writes it now: a glance is not worth more


def glance_at(ledger: Path) -> tuple[bytes, dict[str, int]]:
    """The key of a store, and the highest number that was given to a version of each source.

    Raises StoreError where it cannot be read now: it is damaged, or somebody is in the middle of writing it.
    """
    try:
        with closing(sqlite3.connect(f"file:{quote(str(ledger))}?mode=ro", uri=True, timeout=_WAIT_S)) as db:
            (key,) = db.execute("SELECT value FROM meta WHERE name = 'fingerprint_key'").fetchone()
            return bytes(key), dict(db.execute("SELECT name, last_number FROM source").fetchall())
    except (sqlite3.Error, TypeError, ValueError) as exc:
        raise StoreError(f"{ledger} cannot be read: {exc}") from exc
