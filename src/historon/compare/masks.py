"""Rules about text: noise is left out of comparisons, secrets are left out of sight."""

import base64
import hmac
import json
import re
from collections.abc import Iterable, Iterator
from copy import copy
from html import escape
from typing import Self
from urllib.parse import quote, quote_plus

from historon.estate import Pattern

__all__ = ["Masks"]

_NAMES = rb"(?:password|passwd|passphrase|secret|community|pre-shared-key|psk|api[_-]?key|auth[_-]?key|token)"
# What holds secrets in configurations of every make. A pattern with a group hides the group, else all that it matches.
_GENERAL = tuple(
    re.compile(pattern, re.MULTILINE | re.IGNORECASE)
    for pattern in (
        rb"-----BEGIN [A-Z ]*PRIVATE KEY-----\s((?s:.+?))\s-----END",
        rb"\b" + _NAMES + rb"\b[\"']?(?:[ \t]*[:=][ \t]*|[ \t]+)(?:\d[ \t]+)?[\"']?([^\s\"'<>;,]+)",
        rb"<[\w:.-]*" + _NAMES + rb"[\w.-]*(?:\s[^<>]*)?>([^<]+)<",
        rb"\$(?:1|2[aby]|5|6|7|y)\$[./A-Za-z0-9$,=+-]{8,}",
    )
)


# The time of change in the metadata of a tree, see store.trees.
_TREE_TIME = re.compile(rb"^[-dl][-rwxsStT]{9} \S+:\S+ (\d{4}-\d\d-\d\dT[0-9:.]+Z) ")
_SHORTEST = 4  # a shorter secret stands everywhere by chance


class Masks:
    """The noise and secret patterns that hold for a source, with the key that tells hidden secrets apart."""

    def __init__(
        self, noise: Iterable[Pattern] = (), secret: Iterable[Pattern] = (), *, literal: Iterable[bytes] = (),
        key: bytes = b"", reveal: bool = False, with_noise: bool = False,
        ignore_case: bool = False, ignore_space: bool = False,
    ) -> None:  # fmt: skip
        """`literal` are secrets themselves, which are hidden wherever they stand; `with_noise` counts noise as text.

        Lines that differ by case or white space alone are the same where that is to be ignored.
        """
        self._noise = [] if with_noise else [pattern.compiled for pattern in noise]
        self._with_noise = with_noise
        self._ignore_case, self._ignore_space = ignore_case, ignore_space
        self._secret = [pattern.compiled for pattern in secret]
        self._key = key
        self.reveal = reveal
        for text in literal:
            self.also(text)

    def also(self, secret: bytes) -> None:
        """Hide this secret too, wherever it stands, also as it is written in requests and pages."""
        if len(secret) >= _SHORTEST:
            longest_first = sorted(_forms(secret), key=len, reverse=True)
            self._secret.append(re.compile(b"|".join(map(re.escape, longest_first))))

    def for_part(self, name: str) -> Self:
        """The masks for a part of this name: in the metadata of a tree the time of change alone is no change."""
        if self._with_noise or not (name == "tree" or name.endswith(".tree")):
            return self
        made = copy(self)
        made._noise = [_TREE_TIME, *self._noise]
        return made

    @property
    def has_noise(self) -> bool:
        """Whether lines that differ may count as the same."""
        return bool(self._noise) or self._ignore_case or self._ignore_space

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
        spans = [span for pattern in (*_GENERAL, *self._secret) for span in _spans(pattern, content)]
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


def _spans(pattern: re.Pattern[bytes], content: bytes) -> Iterator[tuple[int, int]]:
    for match in pattern.finditer(content):
        for group in range(1, pattern.groups + 1) if pattern.groups else (0,):
            if match.start(group) >= 0 and match.end(group) > match.start(group):
                yield match.span(group)


def _without_groups(match: re.Match[bytes]) -> bytes:
    text, start = match[0], match.start()
    for group in range(len(match.groups()), 0, -1):
        if match.start(group) >= 0:
            text = text[: match.start(group) - start] + text[match.end(group) - start :]
    return text
