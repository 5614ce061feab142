"""What was shown of versions by laying them out and trying them; the last of each source stay on record."""

import json
from collections.abc import Mapping
from dataclasses import asdict, dataclass

from historon.store.interface import Memory, Store
from historon.store.records import Version

__all__ = ["NEVER_TRIED", "Proof", "last_proofs", "note_proof", "proofs_of"]

NEVER_TRIED = "never tried"  # the verdict on a version that its proof was not run for
_TOPIC = "proofs"
_KEPT = 50  # of a source


@dataclass(frozen=True)
class Proof:
    """What became of it: `proven`, `failed`, or `unknown` where it could not be tried; when (UTC), how long, why.

    `said` are the last lines of the program that was not content; `by` is the digest of the proof that was run.
    """

    verdict: str
    at: str
    took_s: float
    why: str = ""
    said: tuple[str, ...] = ()
    by: str = ""

    def as_of(self, by: str) -> "Proof":
        """The verdict as far as it holds for the proof of today, which has this digest."""
        if self.by == by or self.verdict == "unknown":
            return self
        return Proof(
            "unknown", self.at, self.took_s, "the proof was changed since, or is of an earlier Historon", by=by
        )

    @property
    def well(self) -> bool:
        """Whether every program was content."""
        return self.verdict == "proven"

    def __str__(self) -> str:
        if not self.at:
            return self.verdict
        why = f": {self.why}" if self.why else ""
        return f"{self.verdict} {self.at[:10]} in {self.took_s:.1f}s{why}"


def proofs_of(store: Memory, source: str, by: str | None = None) -> dict[int, Proof]:
    """What is on record of a source's versions, by their numbers; with `by` as far as it holds today. StoreError."""
    try:
        known = json.loads(store.recall(source, _TOPIC) or "{}")
        found = {int(number): Proof(**{**one, "said": tuple(one.get("said", ()))}) for number, one in known.items()}
        return found if by is None else {number: proof.as_of(by) for number, proof in found.items()}
    except (ValueError, TypeError, AttributeError):
        return {}  # written by another Historon: nothing is known then


def last_proofs(store: Store, by: Mapping[str, str]) -> dict[str, Proof]:
    """Of each source what is on record of its last good version; nothing where that was not tried. StoreError.

    `by` are the digests of the sources' proofs of today; a source without one has nothing to prove any more.
    """
    states = store.states()
    found = {}
    for source in store.recall_all(_TOPIC):
        if source not in by:
            continue
        good = states[source].good if source in states else None
        known = proofs_of(store, source, by[source])
        if good is not None and good in known:
            found[source] = known[good]
    return found


def note_proof(store: Memory, version: Version, proof: Proof) -> None:
    """Put a proof on record. StoreError."""
    known = proofs_of(store, version.source)
    known[version.number] = proof
    kept = sorted(known)[-_KEPT:]
    store.remember(version.source, _TOPIC, json.dumps({number: asdict(known[number]) for number in kept}))
