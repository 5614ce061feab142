"""What a source must and must not have: rules that an export is checked against."""

import hashlib
import json
import re
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import asdict, dataclass
from fnmatch import fnmatchcase
from typing import IO

from historon.compare import outline_of
from historon.compare.documents import Document, Node, parse_document
from historon.compare.opening import opened
from historon.estate import UNKNOWN_MARK, Requirement, rules_digest
from historon.versions import Masks, split_lines

__all__ = ["Unmet", "news_of", "unmet"]

_MOST = 50  # places of one rule that are reported
_MOST_PLACES = 500_000
_WILD = re.compile(r"[*?\[]")  # how what is not literal begins in a pattern (fnmatch)


@dataclass(frozen=True)
class Unmet:
    """A requirement that is not met: what is there and must not be, or what is missing, and in which section.

    Where it cannot be known whether it is met, `unknown` says why. That is not well either.
    """

    requirement: str
    lacks: str = ""
    has: str = ""
    section: str = ""
    why: str = ""
    unknown: str = ""

    @property
    def what(self) -> str:
        """What is missing, or is there, or why that cannot be known."""
        if self.unknown:
            return f"unknown: {self.unknown}"
        within = f" in {self.section}" if self.section else ""
        return f"lacks {self.lacks}{within}" if self.lacks else f"has {self.has}"

    def __str__(self) -> str:
        return f"{self.requirement}: {self.what}" + (f" ({self.why})" if self.why else "")


def unmet(
    requirements: Sequence[Requirement],
    parts: Mapping[str, bytes],
    masks: Masks,
    large: Mapping[str, IO[bytes]] | None = None,
) -> list[Unmet]:
    """What an export does not meet. Places are matched as they are, and reported with secrets masked.

    In the place of parts of more than 16 MiB stand their stand-ins; those that are archives are looked into where
    `large` has them as files.
    """
    if not requirements:
        return []
    closed: dict[str, str] = {}
    packed: set[str] = set()
    places: dict[str, list[str]] = {}
    for one in opened(parts, large):
        places |= {name: list(_places(name, content, masks)) for name, content in one.texts.items()}
        closed |= one.closed
        packed |= {name for name in one.closed if one.members}
    found = []
    for rule in requirements:
        meant = {name: own for name, own in places.items() if fnmatchcase(name, rule.part)}
        unknown = [
            f"{name} {why}"
            for name, why in closed.items()
            if fnmatchcase(name, rule.part) or (name in packed and _may_hold(name, rule.part))
        ]
        unknown += [f"{name} has more than {_MOST_PLACES:,} lines" for name in meant if len(meant[name]) > _MOST_PLACES]
        if not meant and not unknown:
            unknown = [f"no readable part is called {rule.part}"]
        looked_at = [place for own in meant.values() for place in own]
        found += list(_failures(rule, looked_at, masks, unknown))[:_MOST]
    return found


def _may_hold(name: str, pattern: str) -> bool:
    """Whether a member of an archive of this name may be meant by the pattern: by how both begin."""
    literal = _WILD.split(pattern, maxsplit=1)[0]
    return f"{name}/".startswith(literal) or literal.startswith(f"{name}/")


def _failures(rule: Requirement, places: Sequence[str], masks: Masks, unknown: Sequence[str]) -> Iterator[Unmet]:
    """What is not met in what could be looked at. What is not there may be in what could not."""
    failing = list(_failures_seen(rule, places, masks))
    yield from (one for one in failing if one.has or not unknown)
    for why in unknown:
        yield Unmet(rule.name, unknown=why, why=rule.why)


def _failures_seen(rule: Requirement, places: Sequence[str], masks: Masks) -> Iterator[Unmet]:
    sections = _sections(rule, places) if rule.each else {"": places}
    if rule.each and not sections:
        yield Unmet(rule.name, unknown=f"each = {rule.each} matches nothing", why=rule.why)
    for section, within in sections.items():
        for pattern in rule.must:
            count = sum(pattern.compiled.search(place.encode()) is not None for place in within)
            if count < rule.at_least:
                lacks = pattern if rule.at_least == 1 else f"{pattern} ({count} of at least {rule.at_least})"
                yield Unmet(rule.name, lacks=lacks, section=masks.seen(section), why=rule.why)
        for pattern in rule.must_not:
            for place in within:
                if pattern.compiled.search(place.encode()):
                    yield Unmet(rule.name, has=masks.seen(place), section=masks.seen(section), why=rule.why)


def _sections(rule: Requirement, places: Sequence[str]) -> dict[str, list[str]]:
    """The places of each section by its path; a section begins with the place that the rule's `each` is found in."""
    found: dict[str, list[str]] = {}
    for place in places:
        section = next((one for one in _prefixes(place) if rule.each and rule.each.compiled.search(one.encode())), None)
        if section is not None:
            found.setdefault(section, []).append(place)
    return found


def _prefixes(place: str) -> Iterator[str]:
    """`a`, `a / b`, `a / b / c`; of a document `/a`, `/a/b` and so on."""
    separator = "/" if place.startswith("/") else " / "
    at = place.find(separator, 1)
    while at >= 0:
        yield place[:at]
        at = place.find(separator, at + len(separator))
    yield place


def _places(name: str, content: bytes, masks: Masks) -> Iterator[str]:
    """Each line behind its headings, as `interface port-3 / mtu 1500`; of a document each value behind its path."""
    document = parse_document(name, content)
    if document:
        yield from _values(document, document.root, document.notation.root)
        return
    lines = split_lines(content)
    outline = outline_of(lines, masks.outline)
    for at, line in enumerate(lines[: _MOST_PLACES + 1]):
        if outline.tells(at):
            yield b" / ".join((*outline.path(at), line.strip())).decode("utf-8", "replace")


def _values(document: Document, node: Node, path: str) -> Iterator[str]:
    """A document's values in its own order, each as `/config/ports/port[@name='p3']/vlan = 110`."""
    stack = [(node, path)]
    while stack:
        node, path = stack.pop()
        if node.value is not None:
            yield f"{path} = {node.value}"
        under = [(one, document.notation.named(path, name)) for name, one in node.fields.items()]
        for name, entries in node.lists.items():
            key = next((key for key in ("@name", "name", "@id", "id") if entries and entries[0].scalar(key)), None)
            for at, one in enumerate(entries):
                value = one.scalar(key) if key else None
                known = (key, value) if key and value else None
                under.append((one, document.notation.listed(path, name, at, known, alone=len(entries) == 1)))
        stack += reversed(under)


def news_of(
    before: str | None, rules: Sequence[Requirement], now: Sequence[Unmet]
) -> tuple[str, list[Unmet], list[str]]:
    """What is to be remembered of a check, what is newly not met, and the rules that are met again."""
    known: dict[str, list[str]] = json.loads(before)["unmet"] if before else {}
    failing: dict[str, list[str]] = {}
    for one in now:
        failing.setdefault(one.requirement, []).append(_digest(one))
    fresh = [one for one in now if _digest(one) not in known.get(one.requirement, ())]
    current = {rule.name for rule in rules}
    met_again = sorted(name for name in known if name not in failing and name in current)
    return json.dumps({"rules": rules_digest(rules), "unmet": failing}), fresh, met_again


def _digest(one: Unmet) -> str:
    digest = hashlib.sha256(json.dumps(asdict(one)).encode()).hexdigest()[:16]
    return f"{UNKNOWN_MARK}{digest}" if one.unknown else digest
