"""Whom a copy belongs to: one store, by an identity that gives its key away to nobody."""

import hashlib

from historon.store import Store, another_store

__all__ = ["check_belongs", "store_identity"]


def store_identity(store: Store) -> str:
    """The identity of a store, 32 hexadecimal digits: the same for the store and for copies that can take its place."""
    return hashlib.sha256(b"historon store\0" + store.fingerprint_key()).hexdigest()[:32]


def check_belongs(place: str, said: str, estate: str, store: Store) -> None:
    """RefusedError where a copy says that it belongs to another store than this one, of the estate that it names."""
    if said != store_identity(store):
        raise another_store(place, estate)
