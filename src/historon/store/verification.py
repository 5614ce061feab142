"""Reading everything again: whether each version that the ledger tells of is still there, byte for byte."""

import secrets
from collections.abc import Callable, Iterable
from dataclasses import dataclass, field

from historon.base.errors import StoreError
from historon.store.interface import Store
from historon.store.records import Version

__all__ = ["Damage", "Verification", "verify"]


@dataclass(frozen=True)
class Damage:
    """Something that cannot be read, or is not what was written; without a version it is the source's record."""

    source: str
    number: int | None
    part: str
    problem: str

    def __str__(self) -> str:
        version = f"@{self.number}" if self.number is not None else ""
        return f"{self.source}{version} {self.part}".strip() + f": {self.problem}"


@dataclass
class Verification:
    """What was read, in numbers, and what is damaged. Contents that versions share are read once.

    `sample_of` is how many versions or contents there are, where only some of them were read. `differing` is what is
    whole in a copy, and not as the store says.
    """

    sources: int = 0
    versions: int = 0
    contents: int = 0
    bytes: int = 0
    ledger: list[str] = field(default_factory=list)
    damages: list[Damage] = field(default_factory=list)
    sample_of: int | None = None
    differing: list[Damage] = field(default_factory=list)

    @property
    def well(self) -> bool:
        """Whether all is whole."""
        return not self.ledger and not self.damages and not self.differing


def verify(
    store: Store,
    sources: Iterable[str],
    told: Callable[[str], None] = lambda source: None,
    *,
    sample: int | None = None,
) -> Verification:
    """Read every version of these sources and verify its SHA-256; `told` hears of each source when it is done.

    With a `sample` only so many of the versions are read, whichever. Raises StoreError when the ledger itself cannot be
    read.
    """
    found = Verification(ledger=store.check())
    if sample is not None:
        return _verify_some(store, sources, found, sample)
    for source in sources:
        found.sources += 1
        _verify_source(store, source, found)
        told(source)
    return found


def _verify_some(store: Store, sources: Iterable[str], found: Verification, sample: int) -> Verification:
    versions = [version for source in sources for version in store.versions(source)]
    chosen = versions
    if sample < len(versions):
        found.sample_of = len(versions)
        chosen = secrets.SystemRandom().sample(versions, sample)
    found.sources = len({version.source for version in chosen})
    seen: dict[tuple[int, int], str | None] = {}
    for version in chosen:
        found.versions += 1
        _verify_version(store, version, found, seen)
    return found


def _verify_source(store: Store, source: str, found: Verification) -> None:
    versions = store.versions(source)
    good = store.state(source).good
    if good is not None and good not in {version.number for version in versions}:
        found.damages.append(Damage(source, good, "", "the last good version is missing"))
    seen: dict[tuple[int, int], str | None] = {}
    for version in versions:
        found.versions += 1
        _verify_version(store, version, found, seen)


def _verify_version(
    store: Store, version: Version, found: Verification, seen: dict[tuple[int, int], str | None]
) -> None:
    try:
        parts = store.parts(version.source, version.number)
    except StoreError as exc:
        found.damages.append(Damage(version.source, version.number, "", exc.message))
        return
    if not parts:
        found.damages.append(Damage(version.source, version.number, "", "it has no parts"))
    for part in parts:
        if part.place not in seen:
            found.contents += 1
            seen[part.place] = None
            try:
                found.bytes += sum(map(len, store.pieces(part)))
            except StoreError as exc:
                seen[part.place] = exc.message
        problem = seen[part.place]
        if problem:
            found.damages.append(Damage(version.source, version.number, part.name, problem))
