"""What was shown of versions by laying them out and trying them; the last of each source stay on record."""

import json
from dataclasses import asdict, dataclass

from historon.store.interface import Store, Version

__all__ = ["Proof", "last_proofs", "note_proof", "proofs_of"]

_TOPIC = "proofs"
_KEPT = 50  # of a source


@dataclass(frozen=True)
class Proof:
    """What became of it: `proven`, `failed`, or `unknown` where it could not be tried; when (UTC), how long, why."""

    verdict: str
    at: str
    took_s: float
    why: str = ""

    @property
    def well(self) -> bool:
        """Whether every program was content."""
        return self.verdict == "proven"

    def __str__(self) -> str:
        why = f": {self.why}" if self.why else ""
        return f"{self.verdict} {self.at[:10]} in {self.took_s:.1f}s{why}"


def proofs_of(store: Store, source: str) -> dict[int, Proof]:
    """What is on record of a source's versions, by their numbers. StoreError."""
    try:
        return {int(number): Proof(**one) for number, one in json.loads(store.recall(source, _TOPIC) or "{}").items()}
    except (ValueError, TypeError, AttributeError):
        return {}  # written by another Historon: nothing is known then


def last_proofs(store: Store) -> dict[str, Proof]:
    """Of each source what is on record of its last good version; nothing where that was not tried. StoreError."""
    states = store.states()
    found = {}
    for source in store.recall_all(_TOPIC):
        good = states[source].good if source in states else None
        known = proofs_of(store, source)
        if good is not None and good in known:
            found[source] = known[good]
    return found


def note_proof(store: Store, version: Version, proof: Proof) -> None:
    """Put a proof on record. StoreError."""
    known = proofs_of(store, version.source)
    known[version.number] = proof
    kept = sorted(known)[-_KEPT:]
    store.remember(version.source, _TOPIC, json.dumps({number: asdict(known[number]) for number in kept}))
