"""Rules about text: noise is left out of comparisons, secrets are left out of sight."""

import base64
import hmac
import json
import re
import sys
from collections.abc import Iterable, Iterator, Mapping, Sequence
from copy import copy
from html import escape
from typing import Self
from urllib.parse import quote, quote_plus

from historon.estate import Expression, Noise, Pattern, Procedure

__all__ = ["VALUE_KINDS", "Masks"]

_Expression = re.Pattern[bytes] | Expression

_NAMES = rb"(?:password|passwd|passphrase|secret|community|pre-shared-key|psk|api[_-]?key|auth[_-]?key|token)"
# One of these stands wherever one of the names does. They are looked for first, as that takes a fiftieth of the time.
_SIGNS = (b"passw", b"passphrase", b"secret", b"community", b"pre-shared", b"psk", b"key", b"token")


def _general(*patterns: bytes) -> list[re.Pattern[bytes]]:
    return [re.compile(pattern, re.MULTILINE | re.IGNORECASE) for pattern in patterns]


# What holds secrets in configurations of every make. A pattern with a group hides the group, else all that it matches.
_NAMED = _general(
    rb"\b" + _NAMES + rb"\b[\"']?(?:[ \t]*[:=][ \t]*|[ \t]+)(?:\d[ \t]+)?[\"']?([^\s\"'<>;,]+)",
    rb"<[\w:.-]*" + _NAMES + rb"[\w.-]*(?:\s[^<>]*)?>([^<]+)<",
)
_UNNAMED = _general(
    rb"-----BEGIN [A-Z ]*PRIVATE KEY-----(?:\s|\\[nr])+((?s:.+?))(?:\s|\\[nr])*-----END",
    rb"\$(?:1|2[aby]|5|6|7|y)\$[./A-Za-z0-9$,=+-]{8,}",
)
# Kinds of values that change by themselves, by their names in `value:`; what stands in the groups is left out.
VALUE_KINDS: Mapping[str, re.Pattern[bytes]] = {
    kind: re.compile(pattern, re.IGNORECASE | re.VERBOSE)
    for kind, pattern in {
        "time": rb"""(
            \b\d{4}-\d\d?-\d\d?(?:[T\ ,]+\d\d?:\d\d(?::\d\d(?:[.,]\d+)?)?)?(?:Z|\ ?[+-]\d\d:?\d\d)?
            | \b\d\d?:\d\d:\d\d(?:[.,]\d+)?
            | \b\d\d?[./]\d\d?[./]\d{2,4}\b
            | \b(?:mon|tue|wed|thu|fri|sat|sun)[a-z]*,?\ (?=\w)
            | \b\d{0,2}\ ?(?:jan|feb|mar|apr|may|jun|jul|aug|sep|oct|nov|dec)[a-z]*\ \d{1,4}\b
            | \b\d+\ (?:weeks?|days?|hours?|minutes?|seconds?|[wdhms])\b
            )""",
        "counter": rb"""
            \b(?:packets?|bytes|octets|hits?|errors?|drops?|matches|count(?:er)?|uptime|uses|seq\w*)\b\W{0,3}(\d+)
            | \b(\d+)\W{0,2}(?:packets?|bytes|octets|hits?|errors?|drops?|matches)\b
            """,
        "serial": rb"""\bserial(?:[\ _-]?(?:number|no))?\b["']?[\ \t]*[:=\#>]?[\ \t]*["']?([\w-]+)""",
        "hash": rb"""(
            \$(?:1|2[aby]|5|6|7|y)\$[./A-Za-z0-9$,=+-]{8,}
            | \b[0-9a-f]{24,}\b
            | \b[A-Za-z0-9+/]{40,}={0,2}
            )""",
    }.items()
}

# The time of change in the metadata of a tree, see store.trees.
_TREE_TIME = re.compile(rb"^[-dl][-rwxsStT]{9} \S+:\S+ (\d{4}-\d\d-\d\dT[0-9:.]+Z) ")
_ELEMENT = 4096  # bytes of an element's text that are looked at behind its line
_SHORTEST = 4  # a shorter secret stands everywhere by chance


class Masks:
    """What is left out of comparisons and out of sight, with the key that tells hidden secrets apart."""

    def __init__(
        self, noise: Iterable[Noise] = (), secret: Iterable[Pattern] = (), *, literal: Iterable[bytes] = (),
        key: bytes = b"", reveal: bool = False, with_noise: bool = False,
        ignore_case: bool = False, ignore_space: bool = False,
        outline: str | None = None, unordered: Iterable[Pattern] = (), known_by: Sequence[str] = (),
    ) -> None:  # fmt: skip
        """`literal` are secrets themselves, which are hidden wherever they stand; `with_noise` counts noise as text.

        Lines that differ by case or white space alone are the same where that is to be ignored. `outline`, `unordered`
        and `known_by` are as in a procedure.
        """
        rules = [] if with_noise else list(noise)
        self._noise = _line_noise(rules)
        self._path_noise = [rule.compiled for rule in rules if rule.kind == "path"]
        self.xpaths = [rule.place for rule in rules if rule.kind == "xpath"]
        self.pointers = [rule.place for rule in rules if rule.kind == "json"]
        self.outline = outline
        self._unordered = [] if with_noise else [pattern.compiled for pattern in unordered]
        self.known_by = tuple(known_by)
        self.with_noise = with_noise
        self._ignore_case, self._ignore_space = ignore_case, ignore_space
        self._secret: list[_Expression] = [pattern.compiled for pattern in secret]
        self._key = key
        self.reveal = reveal
        for text in literal:
            self.also(text)

    @classmethod
    def of(
        cls, procedure: Procedure | None, *, key: bytes, literal: Iterable[bytes] = (), reveal: bool = False,
        with_noise: bool = False, ignore_case: bool = False, ignore_space: bool = False,
    ) -> Self:  # fmt: skip
        """The masks of a procedure; the general ones alone without one."""
        return cls(
            procedure.noise if procedure else (), procedure.secret if procedure else (), literal=literal, key=key,
            reveal=reveal, with_noise=with_noise, ignore_case=ignore_case, ignore_space=ignore_space,
            outline=procedure.outline if procedure else None, unordered=procedure.unordered if procedure else (),
            known_by=procedure.known_by if procedure else (),
        )  # fmt: skip

    def also(self, secret: bytes) -> None:
        """Hide this secret too, wherever it stands, also as it is written in requests and pages."""
        if len(secret) >= _SHORTEST:
            longest_first = sorted(_forms(secret), key=len, reverse=True)
            self._secret.append(re.compile(b"|".join(map(re.escape, longest_first))))

    def adding(self, *, noise: Iterable[Noise] = (), unordered: Iterable[Pattern] = ()) -> Self:
        """These masks, with more that is left out of comparisons."""
        made, rules = copy(self), list(noise)
        made._noise = [*self._noise, *_line_noise(rules)]
        made._path_noise = [*self._path_noise, *(rule.compiled for rule in rules if rule.kind == "path")]
        made.xpaths = [*self.xpaths, *(rule.place for rule in rules if rule.kind == "xpath")]
        made.pointers = [*self.pointers, *(rule.place for rule in rules if rule.kind == "json")]
        made._unordered = [*self._unordered, *(pattern.compiled for pattern in unordered)]
        return made

    def for_part(self, name: str) -> Self:
        """The masks for a part of this name: in the metadata of a tree the time of change alone is no change."""
        if self.with_noise or not (name == "tree" or name.endswith(".tree")):
            return self
        made = copy(self)
        made._noise = [_TREE_TIME, *self._noise]
        return made

    @property
    def has_noise(self) -> bool:
        """Whether lines that differ may count as the same."""
        return bool(self._noise) or self._ignore_case or self._ignore_space or self.has_places

    @property
    def has_places(self) -> bool:
        """Whether it matters where in the outline a line stands."""
        return bool(self._path_noise or self._unordered)

    def noise_at(self, path: bytes) -> bool:
        """Whether everything at this place in the outline is noise."""
        return any(pattern.search(path) for pattern in self._path_noise)

    def unordered(self, path: bytes) -> bool:
        """Whether order means nothing under this place in the outline or document."""
        return any(pattern.search(path) for pattern in self._unordered)

    def essence(self, line: bytes) -> bytes | None:
        """What of a line counts in a comparison; None when the whole line is noise.

        A noise pattern without a group makes every line it is found in noise, one with groups only what is in them.
        """
        for pattern in self._noise:
            if not pattern.groups and pattern.search(line):
                return None
            if pattern.groups:
                line = pattern.sub(_without_groups, line)
        if self._ignore_space:
            line = b" ".join(line.split())
        return line.lower() if self._ignore_case else line

    def hide(self, content: bytes) -> bytes:
        """The content fit for eyes: secrets replaced, line for line, by `[secret 3fa9c2]`.

        Equal secrets get equal marks and a changed one another, by a keyed digest (HMAC-SHA256, RFC 2104) from which
        there is no way back.
        """
        if self.reveal:
            return content
        spans = list(_named_spans(content))
        spans += [span for pattern in (*_UNNAMED, *self._secret) for span in _spans(pattern, content)]
        return b"".join(self._replaced(content, spans)) if spans else content

    def seen(self, text: str) -> str:
        """The same for a message."""
        return self.hide(text.encode()).decode("utf-8", "replace")

    def _replaced(self, content: bytes, spans: list[tuple[int, int]]) -> Iterator[bytes]:
        """The content with what the spans cover, overlapping ones as one, replaced by marks."""
        at = 0
        for start, end in _merged(spans):
            yield content[at:start]
            yield self._mark(content[start:end])
            at = end
        yield content[at:]

    def _mark(self, secret: bytes) -> bytes:
        mark = b"[secret " + hmac.new(self._key, secret, "sha256").hexdigest()[:6].encode() + b"]"
        return b"\n".join([mark] * (secret.count(b"\n") + 1))


def _line_noise(rules: Iterable[Noise]) -> list[_Expression]:
    return [VALUE_KINDS[rule.place] if rule.kind == "value" else rule.compiled
            for rule in rules if rule.kind in ("pattern", "value")]  # fmt: skip


def _forms(secret: bytes) -> set[bytes]:
    """A secret as it is, and as forms (RFC 1866), addresses (RFC 3986), JSON, markup and base64 write it."""
    text = secret.decode("utf-8", "replace")
    written = {quote(text, safe=""), quote(text), quote_plus(text), json.dumps(text)[1:-1], escape(text)}
    return {secret, base64.b64encode(secret), *(form.encode() for form in written)}


def _merged(spans: list[tuple[int, int]]) -> Iterator[tuple[int, int]]:
    """Spans in order; of those that overlap, all that any of them covers."""
    ordered = sorted(spans)
    first, last = ordered[0]
    for start, end in ordered[1:]:
        if start < last:
            last = max(last, end)
        else:
            yield first, last
            first, last = start, end
    yield first, last


def _named_spans(content: bytes) -> Iterator[tuple[int, int]]:
    """What stands behind names of secrets: looked for in the lines that hold a sign of one, and shortly behind."""
    lowered = content.lower()
    lines: set[int] = set()
    for sign in _SIGNS:
        at = lowered.find(sign)
        while at >= 0:
            lines.add(lowered.rfind(b"\n", 0, at) + 1)
            end = lowered.find(b"\n", at)
            at = lowered.find(sign, end) if end >= 0 else -1
    for start in lines:
        end = content.find(b"\n", start)
        end = len(content) if end < 0 else end
        yield from _spans(_NAMED[0], content, start, end)
        # The text of an element may begin on the next line.
        yield from _spans(_NAMED[1], content, start, min(len(content), end + _ELEMENT))


def _spans(pattern: _Expression, content: bytes, start: int = 0, end: int = sys.maxsize) -> Iterator[tuple[int, int]]:
    for match in pattern.finditer(content, start, end):
        for group in range(1, pattern.groups + 1) if pattern.groups else (0,):
            if match.start(group) >= 0 and match.end(group) > match.start(group):
                yield match.span(group)


def _without_groups(match: re.Match[bytes]) -> bytes:
    text, start = match[0], match.start()
    for group in range(len(match.groups()), 0, -1):
        if match.start(group) >= 0:
            text = text[: match.start(group) - start] + text[match.end(group) - start :]
    return text
