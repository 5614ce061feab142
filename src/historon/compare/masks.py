"""Rules about text: noise is left out of comparisons, secrets are left out of sight."""

import hmac
import re
from collections.abc import Iterable, Iterator
from functools import cached_property

from historon.estate import Pattern

__all__ = ["Masks"]

_NAMES = rb"(?:password|passwd|passphrase|secret|community|pre-shared-key|psk|api[_-]?key|auth[_-]?key|token)"
# What keeps secrets in configurations of every make. A pattern with a group hides the group, else all that it matches.
_GENERAL = tuple(
    re.compile(pattern, re.MULTILINE | re.IGNORECASE)
    for pattern in (
        rb"-----BEGIN [A-Z ]*PRIVATE KEY-----\n(.+?)\n-----END",
        rb"\b" + _NAMES + rb"\b[\"']?(?:[ \t]*[:=][ \t]*|[ \t]+)(?:\d[ \t]+)?[\"']?([^\s\"'<>;,]+)",
        rb"<[\w:.-]*" + _NAMES + rb"[\w.-]*(?:\s[^<>]*)?>([^<]+)<",
        rb"\$(?:1|2[aby]|5|6|7|y)\$[./A-Za-z0-9$,=+-]{8,}",
    )
)
_BLOCK = re.compile(_GENERAL[0].pattern, re.DOTALL | re.IGNORECASE)


class Masks:
    """The noise and secret patterns that hold for a source, with the key that tells hidden secrets apart."""

    def __init__(
        self, noise: Iterable[Pattern] = (), secret: Iterable[Pattern] = (), *, key: bytes = b"", reveal: bool = False
    ) -> None:
        self._noise = [pattern.compiled for pattern in noise]
        self._secret = [pattern.compiled for pattern in secret]
        self._key = key
        self.reveal = reveal

    @cached_property
    def has_noise(self) -> bool:
        """Whether anything is noise at all."""
        return bool(self._noise)

    def essence(self, line: bytes) -> bytes | None:
        """What of a line counts in a comparison; None when the whole line is noise.

        A noise pattern without a group makes every line it is found in noise, one with groups only what is in them.
        """
        for pattern in self._noise:
            if not pattern.groups and pattern.search(line):
                return None
            if pattern.groups:
                line = pattern.sub(_without_groups, line)
        return line

    def hide(self, content: bytes) -> bytes:
        """The content fit for eyes: secrets replaced, line for line, by `<secret 3fa9c2>`.

        Equal secrets get equal marks and a changed one another, by a keyed digest (HMAC-SHA256, RFC 2104) from which
        there is no way back.
        """
        if self.reveal:
            return content
        for pattern in (_BLOCK, *_GENERAL[1:], *self._secret):
            spans = list(_spans(pattern, content))
            if spans:
                content = b"".join(self._replaced(content, spans))
        return content

    def _replaced(self, content: bytes, spans: list[tuple[int, int]]) -> Iterator[bytes]:
        at = 0
        for start, end in sorted(spans):
            if start < at:
                continue
            yield content[at:start]
            yield self._mark(content[start:end])
            at = end
        yield content[at:]

    def _mark(self, secret: bytes) -> bytes:
        if re.fullmatch(rb"<secret [0-9a-f]{6}>?", secret):
            return secret
        mark = b"<secret " + hmac.new(self._key, secret, "sha256").hexdigest()[:6].encode() + b">"
        return b"\n".join([mark] * (secret.count(b"\n") + 1))


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
