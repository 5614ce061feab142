"""Whether a ledger may take the place of another: nothing of the other is lost, and nothing of it says something else.

A version is immutable. What the ledger before holds must be in the new one with the same digest, or have been removed
on record, by a removal that the caller approves of.
"""

import sqlite3
from collections.abc import Iterable, Mapping, Sequence
from pathlib import Path
from typing import Any, Protocol

from historon.base.errors import StoreError
from historon.store.ledger.contents import Contents
from historon.store.ledger.milliseconds import from_ms, perhaps_from_ms
from historon.store.ledger.tables import STATES
from historon.store.ledger.versions import places_in, stored_parts
from historon.store.records import Approval, Followed, State, Version, version_digest
from historon.store.refusals import another_store, contradiction, lost

__all__ = ["LedgerDigests", "VersionDigests", "check_same", "check_successor"]

_Key = tuple[Any, ...]
_SENSELESS = (StoreError, ValueError, TypeError, IndexError, KeyError, sqlite3.Error)


class VersionDigests(Protocol):
    """The digests of one ledger's versions."""

    def of(self, source: str) -> Mapping[int, bytes]:
        """The digest of each version of a source. Raises StoreError and the like where the ledger is damaged."""

    def hold(self, source: str, number: int) -> bool:
        """Whether the contents of a version are those that its digest names."""


class LedgerDigests(VersionDigests):
    """The digests in a ledger that holds its contents itself."""

    def __init__(self, db: sqlite3.Connection) -> None:
        self._db = db
        self._contents = Contents(db)

    def of(self, source: str) -> Mapping[int, bytes]:
        key = "(SELECT id FROM source WHERE name = ?)"
        strands = self._db.execute(f"SELECT id, name FROM strand WHERE source = {key}", (source,)).fetchall()  # noqa: S608
        known = self._contents.described(dict(strands))
        rows = self._db.execute(f"SELECT number, parts, trees FROM version WHERE source = {key}", (source,))  # noqa: S608
        return {
            number: version_digest(stored_parts(places, trees, known.__getitem__)) for number, places, trees in rows
        }

    def hold(self, source: str, number: int) -> bool:
        query = "SELECT parts FROM version WHERE source = (SELECT id FROM source WHERE name = ?) AND number = ?"
        try:
            for (parts,) in self._db.execute(query, (source, number)).fetchall():
                for place in places_in(parts):
                    self._contents.verify_record(*place)
        except _SENSELESS:
            return False
        return True


def check_successor(
    db: sqlite3.Connection, target: Path | str, gone: Sequence[_Key] | None = None, approve: Approval | None = None
) -> None:
    """RefusedError unless `main` may take the place of `before`: all that this one knows is in it, or was removed.

    `gone` are the keys of the versions that are not in `main` as they are, where that is known. `approve` hears of the
    removals that would be followed, and raises RefusedError where it does not agree.
    """
    key = "SELECT value FROM {}.meta WHERE name = 'fingerprint_key'"
    if db.execute(key.format("before")).fetchone() != db.execute(key.format("main")).fetchone():
        raise another_store(target)
    row = db.execute(_WENT_BACK).fetchone()
    if row:
        raise lost(target, "has {}@{}, which the store lacks".format(*row))
    if gone is None or db.execute(_RENAMED).fetchone():
        missing = db.execute(_MISSING).fetchall()
    else:
        of_one = f"{_MISSING} AND old.source = ? AND old.number = ?"
        missing = [row for one in gone for row in db.execute(of_one, one)]
    followed = []
    for row in missing:
        source, number = row[0], row[1]
        record = db.execute(_REMOVAL, (source, number)).fetchone()
        if record is None:
            raise lost(target, f"has {source}@{number}, which is neither in the store nor removed on record")
        followed.append(_followed(row, record))
    if approve is not None and followed:
        approve(followed)


def check_same(target: Path | str, sources: Iterable[str], ours: VersionDigests, theirs: VersionDigests) -> None:
    """RefusedError where a version of these sources has one digest here and another in the copy, and both hold.

    What is damaged in the copy is no contradiction: it does not match its own digest, and is mended.
    """
    for source in sources:
        try:
            known = theirs.of(source)
        except _SENSELESS:
            continue
        try:
            here = ours.of(source)
        except _SENSELESS as exc:
            raise _damaged(target, source, str(getattr(exc, "message", exc))) from exc
        for number, digest in sorted(known.items()):
            if number in here and here[number] != digest and theirs.hold(source, number):
                if not ours.hold(source, number):
                    raise _damaged(target, f"{source}@{number}", "it does not match its SHA-256")
                raise contradiction(target, source, number)


def _damaged(target: Path | str, what: str, why: str) -> StoreError:
    hint = "historon verify shows the damage in the store; this copy may have an intact version"
    return StoreError(f"{target}: the store is damaged: {what}: {why}; the copy was not changed", hint=hint)


def _followed(row: Sequence[Any], record: Sequence[Any]) -> Followed:
    source, number, at, state, held = row
    sha256, rule, gone, round_number = record
    before = Version(source, number, from_ms(at), State(STATES[state]), 0, 0, 0, held)
    return Followed(before, sha256, rule, perhaps_from_ms(gone), round_number)


_WENT_BACK = """
    SELECT old.name, old.last_number FROM before.source AS old LEFT JOIN main.source AS new USING (name)
    WHERE old.last_number > coalesce(new.last_number, 0) ORDER BY old.name LIMIT 1
"""
_RENAMED = "SELECT 1 FROM before.source AS old JOIN main.source AS new USING (id) WHERE old.name <> new.name"
_MISSING = """
    SELECT s.name, old.number, old.at, old.state, old.held
    FROM before.version AS old JOIN before.source AS s ON s.id = old.source
    WHERE NOT EXISTS (SELECT 1 FROM main.version AS new JOIN main.source AS t ON t.id = new.source
                      WHERE t.name = s.name AND new.number = old.number AND new.at = old.at)
"""
_REMOVAL = """
    SELECT sha256, rule, gone, round FROM main.removed
    WHERE source = (SELECT id FROM main.source WHERE name = ?) AND number = ?
"""
