"""Rules about text: noise is left out of comparisons, secrets are left out of sight."""

import hmac
import re
import sys
from collections.abc import Iterable, Iterator, Mapping, Sequence
from copy import copy
from functools import partial
from typing import Self

from historon.estate import Expression, Noise, Pattern, Procedure
from historon.store import TreeRecord
from historon.versions.secrets import cut_off, forms_of, reach_of, secret_spans
from historon.versions.shown import ShownLines

__all__ = ["VALUE_KINDS", "Masks"]

_Expression = re.Pattern[bytes] | Expression

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
_SHORTEST = 4  # a shorter secret stands everywhere by chance


class Masks:
    """What is left out of comparisons and out of sight, with the key that tells hidden secrets apart."""

    def __init__(
        self,
        noise: Iterable[Noise] = (),
        secret: Iterable[Pattern] = (),
        *,
        known_secrets: Iterable[bytes] = (),
        key: bytes = b"",
        reveal: bool = False,
        with_noise: bool = False,
        ignore_case: bool = False,
        ignore_space: bool = False,
        outline: str | None = None,
        unordered: Iterable[Pattern] = (),
        known_by: Sequence[str] = (),
    ) -> None:
        """`known_secrets` are hidden wherever they stand, in any form; `with_noise` counts noise as text.

        Lines that differ by case or white space alone are the same where that is to be ignored. `outline`, `unordered`
        and `known_by` are as in a procedure.
        """
        self._noise: list[_Expression] = []
        self._path_noise: list[_Expression] = []
        self._unordered: list[_Expression] = []
        self.xpaths: list[str] = []
        self.pointers: list[str] = []
        if not with_noise:
            self._leave_out(noise, unordered)
        self.outline = outline
        self.known_by = tuple(known_by)
        self.with_noise = with_noise
        self._ignore_case, self._ignore_space = ignore_case, ignore_space
        self._secret: list[_Expression] = [pattern.compiled for pattern in secret]
        self._key = key
        self.reveal = reveal
        self._known: list[bytes] = []
        self._forms: list[Expression] = []  # in which the known ones may come back
        for text in known_secrets:
            self.also(text)

    @classmethod
    def of(
        cls,
        procedure: Procedure | None,
        *,
        key: bytes,
        known_secrets: Iterable[bytes] = (),
        reveal: bool = False,
        with_noise: bool = False,
        ignore_case: bool = False,
        ignore_space: bool = False,
    ) -> Self:
        """The masks of a procedure; the general ones alone without one."""
        made = partial(
            cls,
            known_secrets=known_secrets,
            key=key,
            reveal=reveal,
            with_noise=with_noise,
            ignore_case=ignore_case,
            ignore_space=ignore_space,
        )
        if procedure is None:
            return made()
        return made(
            procedure.noise,
            procedure.secret,
            outline=procedure.outline,
            unordered=procedure.unordered,
            known_by=procedure.known_by,
        )

    def also(self, secret: bytes) -> None:
        """Hide this secret too, wherever it stands, also as it is written in requests and pages."""
        if len(secret) >= _SHORTEST:
            self._forms += forms_of(secret)
            self._known.append(secret)

    def adding(self, *, noise: Iterable[Noise] = (), unordered: Iterable[Pattern] = ()) -> Self:
        """These masks, with more that is left out of comparisons."""
        made = copy(self)
        made._leave_out(noise, unordered)
        return made

    def _leave_out(self, noise: Iterable[Noise], unordered: Iterable[Pattern]) -> None:
        """Leave this out besides; in lists of its own, as a copy may have the same ones."""
        rules = list(noise)
        lines: list[Expression | re.Pattern[bytes]] = []
        for rule in rules:
            if rule.kind == "value":
                lines.append(VALUE_KINDS[rule.place])
            elif rule.kind == "pattern":
                lines.append(rule.compiled)
        self._noise = [*self._noise, *lines]
        self._path_noise = [*self._path_noise, *(rule.compiled for rule in rules if rule.kind == "path")]
        self.xpaths = [*self.xpaths, *(rule.place for rule in rules if rule.kind == "xpath")]
        self.pointers = [*self.pointers, *(rule.place for rule in rules if rule.kind == "json")]
        self._unordered = [*self._unordered, *(pattern.compiled for pattern in unordered)]

    def for_part(self, content: bytes) -> Self:
        """The masks for a part: in the metadata of a tree the time of change alone is no change."""
        if self.with_noise or not isinstance(content, TreeRecord):
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
        spans = list(secret_spans(content))
        spans += [span for pattern in (*self._secret, *self._forms) for span in _spans(pattern, content)]
        spans += [span for secret in self._known for span in cut_off(secret, content)]
        return type(content)(self._replaced(content, spans)) if spans else content  # a tree's record stays one

    def shown(self, content: bytes, lines: Sequence[bytes] | None = None) -> ShownLines:
        """The lines fit for eyes, hidden as far as they are looked at; `lines` are those of the content, if known."""
        reach = 0 if self.reveal or self._hides_over_lines(content) else reach_of(self._known)
        return ShownLines(content, self.hide, lines, reach=reach)

    def _hides_over_lines(self, content: bytes) -> bool:
        """Whether a rule of the procedure finds a secret that goes over several lines."""
        return any(b"\n" in match[0] for pattern in self._secret for match in pattern.finditer(content))

    def seen(self, text: str) -> str:
        """The same for a text that a source may have written."""
        return self.hide(text.encode()).decode("utf-8", "replace")

    def told(self, message: str) -> str:
        """The same for a message of ours: what it quotes is hidden by all rules, our own words only where known.

        A quotation may hold quotes itself, so that it goes from the first one to the last.
        """
        first, last = message.find('"'), message.rfind('"')
        if first == last:
            return self._known_hidden(message)
        quoted = self.seen(message[first + 1 : last])
        return self._known_hidden(f"{message[: first + 1]}{quoted}{message[last:]}")

    def _known_hidden(self, text: str) -> str:
        content = text.encode()
        if self.reveal:
            return text
        spans = [span for pattern in (*self._secret, *self._forms) for span in _spans(pattern, content)]
        return (self._replaced(content, spans) if spans else content).decode("utf-8", "replace")

    def _replaced(self, content: bytes, spans: list[tuple[int, int]]) -> bytes:
        """The content with what the spans cover, overlapping ones as one, replaced by marks."""
        pieces = []
        at = 0
        for start, end in _merged(spans):
            pieces += [content[at:start], self._mark(content[start:end])]
            at = end
        return b"".join([*pieces, content[at:]])

    def _mark(self, secret: bytes) -> bytes:
        mark = b"[secret " + hmac.digest(self._key, secret, "sha256").hex()[:6].encode() + b"]"
        return b"\n".join([mark] * (secret.count(b"\n") + 1))


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
