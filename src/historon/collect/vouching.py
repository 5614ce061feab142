"""Marking a suspect version as good, on a person's word, and taking that back."""

from historon.base.errors import UsageError
from historon.collect.identities import IDENTITY
from historon.compare import compare_exports
from historon.estate import Estate
from historon.insight import Reader, Weights, fingerprints, packed, signature, texts_of
from historon.store import State, Store, Version
from historon.versions import Masks, contents_of

__all__ = ["vouch", "withdraw_vouch"]


def vouch(estate: Estate, store: Store, version: Version) -> Version:
    """Mark a suspect version as good: the last good one, unless a newer one is; returns it as it is then.

    The next export is compared with it. UsageError when it is good already; StoreError when it cannot be read.
    """
    name = f"{version.source}@{version.number}"
    if version.good:
        raise UsageError(f"{name} is already good", hint=f"historon versions {version.source}")
    earlier = [one for one in store.versions(version.source) if one.good and one.number < version.number]
    after = contents_of(store, version.source, version.number)
    before = contents_of(store, earlier[-1].source, earlier[-1].number) if earlier else {}
    source = estate.sources.get(version.source)
    procedure = estate.procedure_of(source) if source else None
    own_names = source.own_names if source else (version.source,)
    masks = Masks.of(procedure, key=store.fingerprint_key())
    changes = compare_exports(before, after, masks)
    state = State.GOOD if changes or not earlier else State.NOISE
    reader = Reader(own_names, texts_of(changes), Weights(estate.weights))
    bits = signature(before, after) if store.indexed and store.signed(version.source) else None
    added = sum(one.added for one in changes)
    removed = sum(one.removed for one in changes)
    families = packed(fingerprints(changes if earlier else (), reader))
    store.vouch(version, state, added, removed, families, bits)
    store.remember(version.source, IDENTITY, "")  # whoever answers next is believed, as the person has looked
    found = store.version(version.source, version.number)
    assert found is not None  # noqa: S101 (it was there a moment ago, in the same transaction as its new state)
    return found


def withdraw_vouch(store: Store, version: Version) -> Version:
    """Mark a version as suspect again, for the reason of before. UsageError when nobody vouched for it."""
    name = f"{version.source}@{version.number}"
    if version not in store.vouched():
        raise UsageError(f"nobody vouched for {name}", hint="historon vouch lists vouched versions")
    store.doubt(version, version.note or "its vouch was withdrawn")
    found = store.version(version.source, version.number)
    assert found is not None  # noqa: S101 (it was there a moment ago, in the same transaction as its new state)
    return found
