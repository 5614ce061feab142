"""Whether a copy is that of this store, and says what the store says: versions, their digests and their marks."""

import hashlib
from collections.abc import Mapping

from historon.base.errors import StoreError
from historon.store import Damage, Store, Verification, another_store

__all__ = ["check_belongs", "compare_with_store", "store_identity"]


def store_identity(store: Store) -> str:
    """The identity of a store, 32 hexadecimal digits: the same for the store and for copies that can take its place."""
    return hashlib.sha256(b"historon store\0" + store.fingerprint_key()).hexdigest()[:32]


def check_belongs(place: str, said: str, estate: str, store: Store) -> None:
    """RefusedError where a copy says that it belongs to another store than this one, of the estate that it names."""
    if said != store_identity(store):
        raise another_store(place, estate)


def compare_with_store(
    found: Verification, there: Store, digests: Mapping[str, Mapping[int, bytes]], store: Store
) -> None:
    """Add to what was found in a copy all in which it differs from the store, as far as it is as new.

    `there` is the copy's ledger, `digests` those of its versions by source and number.
    """
    if store_identity(there) != store_identity(store):
        found.differing.append(Damage("", None, "", "it is the copy of another store"))
        return
    as_new = there.change_number() == store.change_number()
    known = there.states()
    for source in sorted({*store.states(), *known}):
        if source not in known:
            if as_new:
                found.differing.append(Damage(source, None, "", "the copy does not know this source"))
            continue
        if source in digests:
            _compare_source(found, source, there, digests[source], store, as_new=as_new)


def _compare_source(
    found: Verification,
    source: str,
    there: Store,
    digests: Mapping[int, bytes],
    store: Store,
    *,
    as_new: bool,
) -> None:
    try:
        ours = store.digests(source)
    except StoreError as exc:
        found.differing.append(Damage(source, None, "", f"it cannot be compared with the store: {exc.message}"))
        return
    copied = {one.number: one for one in there.versions(source)}
    removed = {one.number for one in there.removed(source)}
    newest = max([*copied, *removed], default=0)
    gone = {one.number for one in store.removed(source)}
    for number in sorted(copied.keys() - ours.keys() - gone):
        found.differing.append(Damage(source, number, "", "the store does not have it, and no removal is on record"))
    for version in store.versions(source):
        number = version.number
        theirs = copied.get(number)
        if theirs is None:
            if number not in removed and (as_new or number <= newest):
                found.differing.append(Damage(source, number, "", "it is missing in the copy"))
        elif number in digests and digests[number] != ours.get(number):
            found.differing.append(Damage(source, number, "", "the store has another content under this number"))
        elif as_new and (theirs.state, theirs.held) != (version.state, version.held):
            found.differing.append(Damage(source, number, "", "it has another state in the store"))
