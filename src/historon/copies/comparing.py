"""Which places agree on which digest of a version: the store, and every copy that can be asked."""

from dataclasses import dataclass

from historon.base.errors import OutsideError, StoreError
from historon.copies.checking import store_identity
from historon.copies.status import holdings_of
from historon.estate import Estate
from historon.store import Store

__all__ = ["THE_STORE", "Compared", "ComparedVersion", "compare_places"]

THE_STORE = "the store"


@dataclass(frozen=True)
class ComparedVersion:
    """A version on which places do not agree: the digest in hex that each holds, by the place; empty for none."""

    source: str
    number: int
    places: dict[str, str]


@dataclass(frozen=True)
class Compared:
    """What places hold: how many versions were compared, those that differ, and the places that could not be asked.

    `unknown` says why, by the place. `others` are copies that belong to another store.
    """

    versions: int
    differing: list[ComparedVersion]
    unknown: dict[str, str]
    others: list[str]


def compare_places(estate: Estate, store: Store, names: list[str]) -> Compared:
    """Compare the digests of all versions of these copies and the store. Nothing is changed.

    A version that a copy need not hold (a newer one, one that its own retention or its kind leaves out) is compared
    only where it holds it; one that the store lacks without a record of its removal differs.
    """
    unknown: dict[str, str] = {}
    others: list[str] = []
    held: dict[tuple[str, int], dict[str, str]] = {}
    compared = set()
    for source in store.states():
        for number, digest in store.digests(source).items():
            held[source, number] = {THE_STORE: digest.hex()}
    removed = {(source, one.number) for source in store.states() for one in store.removed(source)}
    for name in names:
        try:
            found = holdings_of(estate, name, store)
        except (StoreError, OutsideError) as exc:
            unknown[name] = exc.message
            continue
        if found.store and found.store != store_identity(store):
            others.append(name)
        for source, versions in found.digests.items():
            for number, told in versions.items():
                if told is not None:
                    compared.add((source, number))
                    held.setdefault((source, number), {})[name] = told.hex()
    differing = [
        ComparedVersion(source, number, places)
        for (source, number), places in sorted(held.items())
        if len(set(places.values())) > 1 or (THE_STORE not in places and (source, number) not in removed)
    ]
    return Compared(len(compared), differing, unknown, others)
