"""What arrives by itself, and does not arrive as it should."""

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta
from random import Random

from year.sources import Source
from year.truth import BAD, Arrival

__all__ = ["FAULTS", "Arriving", "push_as_usual"]

_NOTHING = frozenset({"skipped"})
_STUCK = frozenset({"failed"})
_DAY = timedelta(days=1)


@dataclass(frozen=True)
class Arriving:
    """A fault of what arrives: `come` lets it happen at a noon, and says what is to become of it in the night.

    `may` are the outcomes that are right when nothing is to be taken; None where something is.
    """

    kind: str
    fits: Callable[[Source], bool]
    come: Callable[[Source, Random, datetime], Sequence[Arrival]]
    may: frozenset[str] | None = None


def push_as_usual(source: Source, _rng: Random, noon: datetime) -> Sequence[Arrival]:
    """One whole export."""
    content = source.truth()[source.part]
    source.push(content, noon)
    return [Arrival(content, noon)]


def _dropped(*signs: str) -> Callable[[Source], bool]:
    return lambda source: source.post.transport == "drop" and (not signs or source.post.sign in signs)


def _mailed(source: Source) -> bool:
    return source.post.transport == "mail"


def _several(source: Source, rng: Random, noon: datetime) -> Sequence[Arrival]:
    came: list[Arrival] = []
    for minutes in range(-rng.randrange(2, 5), 0):
        came += push_as_usual(source, rng, noon + timedelta(minutes=minutes))
        source.model.saved += 1
    return came


def _backwards(source: Source, rng: Random, noon: datetime) -> Sequence[Arrival]:
    """Two, of which the one that is written first came last."""
    later = push_as_usual(source, rng, noon)
    source.model.saved += 1
    return [*push_as_usual(source, rng, noon - timedelta(minutes=9)), *later]


def _none(_source: Source, _rng: Random, _noon: datetime) -> Sequence[Arrival]:
    return []


def _unfinished(source: Source, _rng: Random, noon: datetime) -> Sequence[Arrival]:
    content = source.truth()[source.part]
    source.push(
        content if source.post.sign in ("size", "checksum", "marker") else content[: len(content) // 2],
        noon,
        whole=False,
    )
    return []


def _stale_companion(source: Source, _rng: Random, noon: datetime) -> Sequence[Arrival]:
    """What vouches for a file was written before the file."""
    content = source.truth()[source.part]
    name = source.push(content, noon - timedelta(hours=2))
    source.leave(name, content[: len(content) // 2], noon)
    return []


def _foreign(source: Source, rng: Random, noon: datetime) -> Sequence[Arrival]:
    source.leave("readme.txt", b"nobody's file\n", noon)
    return push_as_usual(source, rng, noon)


def _wrong_content(source: Source, _rng: Random, noon: datetime) -> Sequence[Arrival]:
    content = f"Error: the disk is full, at {noon:%Y-%m-%d}\n".encode()
    source.unwanted.append(source.push(content, noon))  # what is set aside stays where it is
    return [Arrival(content, noon, good=False)]


def _future(source: Source, _rng: Random, noon: datetime) -> Sequence[Arrival]:
    content = source.truth()[source.part]
    source.pushed += 1
    source.deliver(content, noon, f"<{source.name}-{source.pushed}@brackwater.example>", noon + 400 * _DAY)
    return [Arrival(content, noon)]


def _twice(source: Source, _rng: Random, noon: datetime) -> Sequence[Arrival]:
    """The same letter, delivered twice."""
    content = source.truth()[source.part]
    for _ in range(2):
        source.pushed += 1
        source.deliver(content, noon, f"<{source.name}-twice-{noon:%Y%m%d}@brackwater.example>")
    return [Arrival(content, noon)]


def _same_name(source: Source, _rng: Random, noon: datetime) -> Sequence[Arrival]:
    """Another letter under the identifier that all such letters have."""
    content = source.truth()[source.part]
    source.pushed += 1
    source.deliver(content, noon, f"<{source.name}@brackwater.example>")
    return [Arrival(content, noon)]


def _empty_letter(source: Source, _rng: Random, noon: datetime) -> Sequence[Arrival]:
    source.pushed += 1
    source.deliver(None, noon, f"<{source.name}-{source.pushed}@brackwater.example>")
    return []


FAULTS = (
    Arriving("several pushes", _dropped(), _several),
    Arriving("pushes out of order", _dropped(), _backwards),
    Arriving("no push", _dropped(), _none, _NOTHING),
    Arriving(
        "a push that is not finished", _dropped("marker", "size", "checksum", "ends", "format"), _unfinished, _STUCK
    ),
    Arriving(
        "a companion that is older than its file", _dropped("marker", "size", "checksum"), _stale_companion, _STUCK
    ),
    Arriving("a foreign file beside", _dropped(), _foreign),
    Arriving("an error in a whole file", _dropped("marker", "size", "checksum", "renamed"), _wrong_content),
    Arriving("no letter", _mailed, _none, _NOTHING),
    Arriving("several letters", _mailed, _several),
    Arriving("a letter from the future", _mailed, _future),
    Arriving("a letter twice", _mailed, _twice),
    Arriving("an identifier used again", _mailed, _same_name),
    Arriving("a letter without an export", _mailed, _empty_letter, _NOTHING | BAD),
)
