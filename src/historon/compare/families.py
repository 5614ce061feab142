"""Equal changes on many sources: what is a source's own is taken out, so that the same edit looks the same."""

import hashlib
import re
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass
from enum import IntEnum
from functools import lru_cache

from historon.compare.changes import Change
from historon.compare.exports import PartChange

__all__ = ["Concern", "Fingerprint", "Plain", "fingerprint", "fingerprints", "packed", "unpacked_fingerprints"]

_MOST = 200  # changes of one version that are told apart
_SECRET = re.compile(r"\[secret [0-9a-f]+\]")
_ADDRESS = re.compile(
    r"\b(?:\d{1,3}\.){3}\d{1,3}(?:/\d{1,2})?\b|\b(?:[0-9a-f]{2}[:-]){5}[0-9a-f]{2}\b"
    r"|(?<![\w:])(?:[0-9a-f]{0,4}:){2,7}[0-9a-f]{0,4}(?:/\d{1,3})?(?![\w:])",
    re.IGNORECASE,
)
_NUMBER = re.compile(r"\d+")
# What matters most at three in the morning, and what least.
_SECRETS = re.compile(r"\b(secret|password|key|certificate|community)\b|\[secret", re.IGNORECASE)
_ACCESS = re.compile(
    r"\b(permit|deny|allow|accept|drop|reject|any|user(?:name)?|admin|role|acl|access|policy|firewall|nat|vpn|tunnel|snmp"
    r"|telnet)\b|access-list",
    re.IGNORECASE,
)
_ROUTES = re.compile(r"\b(route|bgp|ospf)\b", re.IGNORECASE)
_SLIGHT = re.compile(r"\b(description|remark|comment|note|label|banner|alias|contact|location)\b", re.IGNORECASE)


class Plain:
    """Texts of one source made comparable with those of others: its own names, addresses and numbers stand aside."""

    def __init__(self, own: Iterable[str], *, numbers: bool = True) -> None:
        """`own` are names that are the source's own; with `numbers` other numbers stand aside too."""
        names = sorted({name for name in own if len(name) > 1}, key=len, reverse=True)
        joined = "|".join(map(re.escape, names))
        self._own = re.compile(rf"(?<![A-Za-z0-9])(?:{joined})(?![A-Za-z0-9])", re.IGNORECASE) if names else None
        self._numbers = numbers

    def text(self, text: str) -> str:
        """The text with placeholders."""
        text = _SECRET.sub("[secret]", text)
        if self._own:
            text = self._own.sub("<name>", text)
        text = _ADDRESS.sub("<address>", text)
        return _NUMBER.sub("#", text) if self._numbers else text

    def change(self, part: str, change: Change) -> str:
        """A change with placeholders."""
        return "\n".join((part, change.how, *map(self.text, (change.path, change.old, change.new))))


class Concern(IntEnum):
    """What a change is about, as the ledger keeps it in one byte; the last is the gravest."""

    REMARK = 0
    OTHER = 1
    ROUTE = 2
    SECRET = 3
    ACCESS = 4

    @property
    def weight(self) -> int:
        """How much it matters, from 0 for a remark to 2."""
        return min(self, 2)

    @property
    def word(self) -> str:
        """What it is called: `access`, `secret`, `route` or `other`."""
        return self.name.lower() if self.weight == 2 else "other"


@dataclass(frozen=True)
class Fingerprint:
    """A change in nine bytes: what it concerns, what it is with placeholders, and what it is exactly."""

    concern: Concern
    alike: bytes
    exact: bytes


def fingerprints(changes: Iterable[PartChange], plain: Plain) -> list[Fingerprint]:
    """The fingerprints of a version's changes, the grave ones first."""
    found = [fingerprint(part.name, change, plain) for part in changes for change in part.changes[: 4 * _MOST]]
    return sorted(dict.fromkeys(found), key=lambda one: -one.concern)[:_MOST]


def fingerprint(part: str, change: Change, plain: Plain) -> Fingerprint:
    """The fingerprint of one change in a part of this name."""
    exact = _SECRET.sub("[secret]", f"{part}\n{change.how}\n{change.path}\n{change.old}\n{change.new}")
    return Fingerprint(_concern_of(change), _digest(plain.change(part, change), 5), _digest(exact, 3))


def _concern_of(change: Change) -> Concern:
    text = f"{change.path} {change.old} {change.new}"
    if _SLIGHT.search(change.path or text):
        return Concern.REMARK
    for pattern, concern in ((_SECRETS, Concern.SECRET), (_ACCESS, Concern.ACCESS), (_ROUTES, Concern.ROUTE)):
        if pattern.search(text):
            return concern
    return Concern.OTHER


@lru_cache(maxsize=4096)
def _digest(text: str, size: int) -> bytes:
    return hashlib.blake2b(text.encode("utf-8", "surrogatepass"), digest_size=size).digest()


def packed(found: Sequence[Fingerprint]) -> bytes:
    """Fingerprints as the ledger holds them: nine bytes each."""
    return b"".join(bytes([one.concern]) + one.alike + one.exact for one in found)


def unpacked_fingerprints(data: bytes) -> Iterator[Fingerprint]:
    """The fingerprints again."""
    for at in range(0, len(data) - 8, 9):
        yield Fingerprint(Concern(min(data[at], Concern.ACCESS)), data[at + 1 : at + 6], data[at + 6 : at + 9])
