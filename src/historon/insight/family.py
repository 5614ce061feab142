"""Equal changes on many sources: what is a source's own is taken out, so that the same edit looks the same."""

import hashlib
import re
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass
from functools import lru_cache
from typing import Self

from historon.compare import Change, How, PartChange
from historon.insight.own import Own
from historon.insight.weights import Concern, Weights
from historon.versions import is_binary

__all__ = [
    "Fingerprint",
    "Reader",
    "each_fingerprint",
    "fingerprint",
    "fingerprints",
    "grave_first",
    "is_packed",
    "packed",
    "texts_of",
    "unpacked_fingerprints",
]

_MOST = 200  # changes of one version that are distinguished
_FORM = b"\x82"  # before fingerprints as they are made now; a fingerprint of earlier versions begins with less
_READ = 1_000  # characters of a line in which it is looked for what is a source's own
_AT_HAND = 1_000  # texts that are kept as they were read
_OWN_NUMBERS = 200
_DIGEST = 4  # bytes
_DIGESTS = 5
_SIZE = 1 + _DIGESTS * _DIGEST
_SECRET = re.compile(r"\[secret [0-9a-f]+\]")
_MAY_BE_OWN = re.compile(r"[\d:]")  # without these there is nothing to look for
_HEX = "[0-9a-f]"
_MAC = re.compile(rf"\b(?:{_HEX}{{2}}[:-]){{5}}{_HEX}{{2}}\b|\b(?:{_HEX}{{4}}\.){{2}}{_HEX}{{4}}\b", re.IGNORECASE)
_LONG = re.compile(rf"\b{_HEX}{{8}}-(?:{_HEX}{{4}}-){{3}}{_HEX}{{12}}\b|\b{_HEX}{{24,}}\b", re.IGNORECASE)
_ADDRESS = re.compile(
    r"(?<![\w.])(?:\d{1,3}\.){3}\d{1,3}(?:/\d{1,2})?(?![\w.]*\w)"
    rf"|(?<![\w:])(?:{_HEX}{{0,4}}:){{2,7}}{_HEX}{{0,4}}(?:/\d{{1,3}})?(?![\w:])",
    re.IGNORECASE,
)
# Where something is plugged in or which of many it is, not how it is set.
_PLACE = re.compile(
    r"\b((?:port|eth|ethernet|ge|xe|te|gi|fa|gigabitethernet|fastethernet|wan|lan|bond|lag|trunk|port-channel|ppp|tun"
    r"|ens|eno|enp|swp|wlan|sfp|slot|interface|if|lo|loopback|vlan-?if|uplink|link|rule|policy|entry|seq|edit)[-_ ]?)"
    r"\d+(?:[/.:]\d+)*\b",
    re.IGNORECASE,
)
_NUMBER = re.compile(r"\d+")


class Reader:
    """How the changes of one source are read: what is its own stands aside, and what they weigh."""

    def __init__(
        self, names: Iterable[str], texts: Iterable[bytes] = (), weights: Weights | None = None, *, numbers: bool = True
    ) -> None:
        """`names` are the source's own; from `texts`, its configuration, it is learnt what else is.

        Without `numbers` only names and addresses stand aside.
        """
        self._names = tuple(names)
        self._own = Own(self._names, texts)
        self._numbers = numbers
        self._known: dict[str, tuple[str, str]] = {}  # a path, and a line that came, are read more than once
        self.weights = weights or Weights()

    def learning(self, texts: Iterable[bytes]) -> Self:
        """The same, having learnt from these texts what is the source's own."""
        return type(self)(self._names, texts, self.weights, numbers=self._numbers)

    def text(self, text: str) -> str:
        """The text with placeholders for what is the source's own."""
        return self.both(text)[0]

    def both(self, text: str) -> tuple[str, str]:
        """The text with placeholders for what is the source's own; and with one only for the first of its numbers."""
        if text not in self._known:
            if len(self._known) >= _AT_HAND:
                self._known.clear()
            self._known[text] = self._read(text)
        return self._known[text]

    def _read(self, text: str) -> tuple[str, str]:
        text, rest = text[:_READ], text[_READ:]
        text = self._with_placeholders(text)
        own = _one_of(self._own.numbers) if self._numbers and _MAY_BE_OWN.search(text) else None
        if own is None:
            return text + rest, text + rest
        return own.sub("<n>", text) + rest, own.sub("<n>", text, count=1) + rest

    def _with_placeholders(self, text: str) -> str:
        """The text with placeholders, but for numbers that are the source's own."""
        text = _SECRET.sub("[secret]", text) if "[secret" in text else text
        names = _either(tuple(self._own.names))
        if names:
            text = names.sub("<name>", text)
        if not _MAY_BE_OWN.search(text):
            return text
        text = _LONG.sub("<id>", _MAC.sub("<mac>", text))
        text = _ADDRESS.sub(self._address, text)
        return _PLACE.sub(r"\1<n>", text) if self._numbers else text

    def path(self, text: str) -> str:
        """The same for where something stands: there numbers only tell one of many from the others."""
        return _NUMBER.sub("<n>", self.text(text))

    def _address(self, match: "re.Match[str]") -> str:
        return "<address>" if self._own.holds(match[0]) else match[0]


@lru_cache(maxsize=512)
def _one_of(numbers: frozenset[int]) -> "re.Pattern[str] | None":
    """Where one of these numbers stands, but not as the first of an address, nor as the length of a prefix."""
    joined = "|".join(map(str, sorted(numbers)[:_OWN_NUMBERS]))
    if numbers:
        return re.compile(rf"(?<![\d/])0*(?:{joined})(?!\d)(?!(?:\.\d{{1,3}}){{3}}(?![\d.]))")
    return None


@lru_cache(maxsize=512)
def _either(names: tuple[str, ...]) -> "re.Pattern[str] | None":
    joined = "|".join(map(re.escape, names))
    if names:
        return re.compile(rf"(?<![A-Za-z0-9])(?:{joined})(?![A-Za-z0-9])", re.IGNORECASE)
    return None


@dataclass(frozen=True)
class Fingerprint:
    """A change in a few bytes: what it weighs and concerns, and five digests.

    `shape` is the setting, whatever its value; `before` and `after` are its values on both sides, what is the source's
    own left out. `sparing` is both with only the first own number left out, as another may stand there by chance;
    `exact` is the change as it is.
    """

    weight: int
    concern: Concern
    shape: bytes
    before: bytes
    after: bytes
    sparing: bytes
    exact: bytes

    @property
    def digests(self) -> tuple[bytes, ...]:
        """The digests in the order in which the ledger has them."""
        return self.shape, self.before, self.after, self.sparing, self.exact

    @property
    def key(self) -> bytes:
        """What equal changes of a source have in common."""
        return self.shape + self.before + self.after

    @property
    def undone(self) -> bytes:
        """The key of a change that takes this one back."""
        return self.shape + self.after + self.before


def texts_of(changes: Iterable[PartChange]) -> list[bytes]:
    """The texts from which it is learnt, for changes of one version, what is the source's own."""
    return [one.new_content for one in changes if one.new_content and not is_binary(one.new_content)]


def fingerprints(changes: Iterable[PartChange], reader: Reader) -> list[Fingerprint]:
    """The fingerprints of a version's changes, the grave ones first."""
    return grave_first(each_fingerprint(changes, reader).values())


def each_fingerprint(changes: Iterable[PartChange], reader: Reader) -> dict[tuple[str, Change], Fingerprint]:
    """The fingerprint of each of a version's changes, by the part and the change."""
    each = ((part.name, change) for part in changes for change in part.changes[: 4 * _MOST])
    return {(part, change): fingerprint(part, change, reader) for part, change in each}


def grave_first(found: Iterable[Fingerprint]) -> list[Fingerprint]:
    """The fingerprints, each once, in the order of what they weigh; no more than are kept."""
    return sorted(dict.fromkeys(found), key=lambda one: (-one.weight, -one.concern))[:_MOST]


def fingerprint(part: str, change: Change, reader: Reader) -> Fingerprint:
    """The fingerprint of one change in a part of this name."""
    weight = reader.weights.of(change)
    exact = "\n".join((change.old, change.new, *change.under))
    read = [[reader.both(line) for line in side] for side in _sides(change)]
    before, after = ("\n".join(full for full, _ in side) for side in read)
    spared = [spared for side in read for _, spared in side]
    sparing = "\n".join(spared)
    texts = (_shape(part, change, reader), before, after, sparing, _SECRET.sub("[secret]", f"{change.path}\n{exact}"))
    return Fingerprint(weight.number, weight.concern, *map(_digest, texts))


def _shape(part: str, change: Change, reader: Reader) -> str:
    """The setting, whatever its value; of a line that came or went all but its numbers and addresses."""
    line = "" if change.how is How.EDITED else change.new or change.old
    line = _NUMBER.sub("<n>", _ADDRESS.sub("<n>", reader.text(line)).replace("<address>", "<n>"))
    how = change.how if change.how in (How.EDITED, How.MOVED) else "there or not"
    return "\n".join((reader.path(part), how, reader.path(change.path), line))


def _sides(change: Change) -> tuple[Sequence[str], Sequence[str]]:
    """What was there and what is there now."""
    old, new = [change.old] * bool(change.old), [change.new] * bool(change.new)
    under = list(change.under)
    return (old + under, new) if change.how is How.REMOVED else (old, new + under)


@lru_cache(maxsize=4096)
def _digest(text: str) -> bytes:
    return hashlib.blake2b(text.encode("utf-8", "surrogatepass"), digest_size=_DIGEST).digest()


def packed(found: Sequence[Fingerprint]) -> bytes:
    """Fingerprints as the ledger holds them; nothing for none."""
    pieces = [bytes([one.weight << 3 | one.concern]) + b"".join(one.digests) for one in found]
    return _FORM + b"".join(pieces) if pieces else b""


def is_packed(data: bytes) -> bool:
    """Whether these are fingerprints as they are made now; earlier versions made others, or none."""
    return data[:1] == _FORM


def unpacked_fingerprints(data: bytes) -> Iterator[Fingerprint]:
    """The fingerprints again; none of those that earlier versions made."""
    for at in range(1, len(data) - _SIZE + 1, _SIZE) if is_packed(data) else ():
        digests = [data[at + 1 + n * _DIGEST : at + 1 + (n + 1) * _DIGEST] for n in range(_DIGESTS)]
        yield Fingerprint(data[at] >> 3, Concern(min(data[at] & 7, Concern.ACCESS)), *digests)
