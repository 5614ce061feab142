"""What in a source's configuration is its own: its name, its addresses and the networks it stands in, its numbers.

They are learnt from what it holds, without knowing what wrote it: an address that is given together with a mask or a
prefix length and that is not the network itself is one of the source's own, and so is what follows the words by which
configurations name their own address. Digits in its names, and the last number of an address that stands alone, such as
that of a loopback, are its own numbers.
"""

import re
from collections.abc import Iterable, Iterator, Sequence
from functools import cached_property
from itertools import chain, islice
from socket import AF_INET, AF_INET6, inet_pton
from typing import NamedTuple

from historon.estate import Expression

__all__ = ["Own"]

_READ = 4 * 2**20  # bytes of a text that are learnt from
_HEAD = 2**15  # bytes of it in which a source names itself
_MOST_NEAR = 40_000  # places of a text that are looked at
_SHORTEST = 8  # bits of a prefix
_MOST = 4_000  # addresses of a source, after which no other text is learnt from
_V4 = r"(?:\d{1,3}\.){3}\d{1,3}"
_V6 = r"(?:[0-9A-Fa-f]{0,4}:){2,7}[0-9A-Fa-f]{0,4}"
_LENGTH = r"/(\d{1,3})|[ \t]+(?:netmask[ \t]+|mask[ \t]+)?(255\.(?:\d{1,3}\.){2}\d{1,3})"
_ADDRESSED = re.compile(rf"(?<![\w.:])({_V4}|{_V6})(?:{_LENGTH})(?![\w.:])".encode())
_ALONE = re.compile(
    rf"(?i)\b(?:router-id|loopback[\w-]*|local-address|source-address|ip address|ipaddr|inet)"
    rf"[\"'>]?[ \t=:]*[\"']?({_V4})(?:/32|[ \t]+255\.255\.255\.255)?(?![\w.:/])".encode()
)
_NAMED = Expression(
    rb"(?im)^[\W_]*(?:set |system |add )*(?:host-?name|sys-?name|system-name|fqdn|identity name)"
    rb"[\"'>]?[ \t=:]+[\"']?([\w.-]{2,64})"
)
# What is sought first, as it is found fast: the end of an address with its length, and what names one's own address.
_ENDS = re.compile(rb"\.\d{1,3}(?:/\d|[ \t]+(?:netmask[ \t]+|mask[ \t]+)?255\.)")
_ENDS_V6 = re.compile(rb":[0-9A-Fa-f]{0,4}/\d")
_NAMERS = Expression(rb"router-id|oopback|local-address|source-address|p address|paddr|inet")
_BEFORE, _BEHIND = 45, 50  # bytes around such a place
_DIGITS = re.compile(r"\d+")

_WIDTH = {4: 32, 6: 128}  # bits of an address


class _Network(NamedTuple):
    """A network by its version, its prefix length, and the bits of its prefix as a number."""

    version: int
    length: int
    prefix: int


class Own:
    """What stands aside when a source's changes are compared with those of others."""

    def __init__(self, names: Iterable[str], texts: Iterable[bytes] = ()) -> None:
        """`names` are known to be its own; from the `texts`, its configuration, more is learnt once it is asked for."""
        self._given = [name for name in names if len(name) > 1]
        self._texts: Sequence[bytes] = list(texts)

    @cached_property
    def names(self) -> list[str]:
        """Its names, longest first."""
        learnt = [found[1].decode() for text in self._texts for found in _NAMED.finditer(text, 0, _HEAD)]
        return sorted({*self._given, *learnt[:10]}, key=lambda name: (-len(name), name))

    @cached_property
    def numbers(self) -> frozenset[int]:
        """Its numbers: those in its names, and the last of each address that stands alone."""
        found = {int(digits) for name in self.names if not _is_address(name) for digits in _DIGITS.findall(name)[:8]}
        return frozenset(found | {one.prefix & 0xFF for one in self._alone if one.version == 4})

    @cached_property
    def networks(self) -> frozenset[_Network]:
        """The networks in which it has an address; those of a single address too."""
        found = set(self._alone)
        for text in self._texts:
            if len(found) < _MOST:
                found.update(_networks(text[:_READ]))
        return frozenset(found)

    @cached_property
    def _alone(self) -> frozenset[_Network]:
        """Its addresses that stand alone, each as a network of its own; they are few, and found fast."""
        given = {_network(name) for name in self._given}
        learnt = chain.from_iterable(_single(text[:_READ]) for text in self._texts)
        found = given.union(islice(learnt, _MOST_NEAR))
        return frozenset(one for one in found if one is not None)

    @cached_property
    def _lengths(self) -> frozenset[tuple[int, int]]:
        """The versions and prefix lengths that its networks have."""
        return frozenset((one.version, one.length) for one in self.networks)

    def holds(self, written: str) -> bool:
        """Whether an address or network, as it is written, lies in one of its own networks."""
        address, _, length = written.partition("/")
        asked = _network(address, length)
        return asked is not None and any(
            version == asked.version
            and length <= asked.length
            and _Network(version, length, asked.prefix >> (asked.length - length)) in self.networks
            for version, length in self._lengths
        )


def _networks(text: bytes) -> Iterator[_Network]:
    """The networks of addresses that are given with their length."""
    for place in islice(chain(_ENDS.finditer(text), _ENDS_V6.finditer(text)), _MOST_NEAR):
        start = max(0, place.start() - _BEFORE)
        match = next(
            (one for one in _ADDRESSED.finditer(text, start, place.end() + _BEHIND) if one.end() > place.start()), None
        )
        if match and (own := _own_network(match[1].decode(), (match[2] or match[3]).decode())):
            yield own


def _single(text: bytes) -> Iterator[_Network]:
    """The addresses behind words by which configurations name their own address."""
    for named in islice(_NAMERS.finditer(text), _MOST_NEAR):
        match = _ALONE.search(text, max(0, named.start() - 1), named.start() + _BEHIND)
        if match and (alone := _network(match[1].decode())):
            yield alone


def _own_network(address: str, length: str) -> _Network | None:
    """The network of an address that stands in it; none for what is the network itself."""
    single, network = _network(address), _network(address, length)
    if single is None or network is None or network.length < _SHORTEST:
        return None
    is_itself = single.prefix == network.prefix << (single.length - network.length)
    return None if is_itself else network


def _network(address: str, length: str = "") -> _Network | None:
    """The network that an address lies in, by a prefix length or a mask; without one, that of the address alone."""
    version, family = (6, AF_INET6) if ":" in address else (4, AF_INET)
    width = _WIDTH[version]
    try:
        number = int.from_bytes(inet_pton(family, address))
        bits = _bits_of_mask(length) if "." in length else int(length or width)
    except (OSError, ValueError):
        return None
    return _Network(version, bits, number >> (width - bits)) if 0 <= bits <= width else None


def _bits_of_mask(mask: str) -> int:
    """How many bits a mask such as 255.255.255.0 has in front. ValueError where they are not all in front."""
    behind = int.from_bytes(inet_pton(AF_INET, mask)) ^ 0xFFFFFFFF
    if behind & (behind + 1):
        raise ValueError(mask)
    return 32 - behind.bit_length()


def _is_address(text: str) -> bool:
    return _network(text) is not None
