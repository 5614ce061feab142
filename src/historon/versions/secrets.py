"""Where secrets stand in configurations of any make, known by what stands around them.

Everything here takes time in proportion to the length of a text, whatever it holds: signs are looked for first, and
around each only so many bytes are looked at; what was found is not looked at again. Names, words and rules are data:
`secret_rules`.
"""

import base64
import json
import re
import sys
from collections import Counter
from collections.abc import Iterator, Sequence
from functools import cached_property, lru_cache
from html import escape
from math import log2
from urllib.parse import quote, quote_plus

from historon.estate import Expression

__all__ = ["cut_off", "forms_of", "keeps_to_lines", "random_words", "reach_of", "secret_spans"]

_REACH = 400  # bytes of whole lines before and behind one that may have a say in it, where secrets keep to lines
_WIDEST = 4  # bytes that a letter of a known secret takes where line ends break it

_Span = tuple[int, int]


class _Late:
    """An expression that is compiled when it is first used: many commands hide nothing."""

    def __init__(self, written: bytes, flags: int = 0) -> None:
        self._written, self._flags = written, flags

    @cached_property
    def compiled(self) -> re.Pattern[bytes]:
        """The expression itself."""
        return re.compile(self._written, self._flags)

    def match(self, content: bytes, at: int = 0, end: int = sys.maxsize) -> re.Match[bytes] | None:
        """As of re.Pattern."""
        return self.compiled.match(content, at, end)

    def search(self, content: bytes) -> re.Match[bytes] | None:
        """As of re.Pattern."""
        return self.compiled.search(content)

    def finditer(self, content: bytes, at: int = 0, end: int = sys.maxsize) -> Iterator[re.Match[bytes]]:
        """As of re.Pattern."""
        return self.compiled.finditer(content, at, end)

    def findall(self, content: bytes) -> list[bytes]:
        """As of re.Pattern."""
        return self.compiled.findall(content)


class _Table:
    """What `secret_rules` says, as bytes; made when something is hidden."""

    def __init__(self) -> None:
        from historon.versions import secret_rules as written

        self.names = frozenset(row["name"].encode() for row in written.NAMES)
        self.endings = tuple(written.ENDINGS.encode().split())
        self.of_keys = frozenset(row["word"].encode() for row in written.KEYS)
        self.still = frozenset(written.STILL.encode().split())
        self.no_values = frozenset(written.NO_VALUES.encode().split())
        self.rules = [(row["sign"].encode(), _rule(row["is"])) for row in written.RULES]
        self.forms = [(row["sign"].encode(), _Late(row["is"].encode())) for row in written.FORMS]


def _rule(written: str) -> _Late:
    return _Late(written.encode(), re.IGNORECASE | re.MULTILINE)


_table = lru_cache(_Table)


# Directives of web servers that say where a request is passed on to.
_FORWARDS = {b"proxy_pass", b"fastcgi_pass", b"uwsgi_pass", b"scgi_pass", b"grpc_pass", b"memcached_pass"}
# One of these stands in every name of a secret.
_SIGNS = (
    b"pass",
    b"pw",
    b"secret",
    b"psk",
    b"key",
    b"token",
    b"communit",
    b"credential",
    b"auth",
    b"priv",
    b"chap",
    b"wep",
    b"pin",
)
_NAME_BYTES = frozenset(b"ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789_.-")
_LONGEST_NAME = 64
_LONGEST_VALUE = 4096
_BEFORE = 100  # bytes of the line before a name that are looked at

# What a name is made of: `wpa_passphrase`, `keystorePass`, `DB_PASSWORD` are words one behind the other.
_WORDS = _Late(rb"[A-Z]+(?![a-z])|[A-Z]?[a-z]+|\d+")
_PLAIN_WORDS = frozenset({b"set", b"match", b"send", b"standard", b"expanded", b"delete", b"permit", b"deny"})
_COMMENT = _Late(
    rb"\s*(?:[#!;]|//(?![\w.-]+/)|/?\*|--|<!--|(?:rem|description|remark|comment|banner|note|title)\b)", re.IGNORECASE
)

# Between a name and its value: a closing quote, then `=`, `:`, `=>` or blanks. What is called by a name may be known
# by it: `name="password" value="x"`, `<entry key="password">x`, `name: PASSWORD` with `value: x` on the next line.
_SEPARATOR = _Late(
    rb"""
    ["']?\s{0,8}(?:"|')?\s{0,4},?\s{1,80}["']?(?:value|default)["']?\s{0,8}[:=]>?\s{0,40}   # told by its name
    | ["']?\]?[\ \t]{0,8}(?::=|=>|[:=]{1,2})[\ \t]{0,8}(?:\r?\n[\ \t]{1,80}(?=["']))?        # a = b, a: b, "a": "b"
    | ["'][\ \t]{0,8},[\ \t]{0,8}(?=["'])                                                  # define('a', 'b')
    | (?:[\ \t]{1,8}[\w:.-]{1,40}=(?:"[^"<>\n]{0,200}"|'[^'<>\n]{0,200}')){0,4}["']?[\ \t]{0,8}>\s{0,80}  # <a b="c">d
    | \((?=[^()\s]{1,200}\))                                                                # password(a)
    | [\ \t]{1,80}
    """,
    re.VERBOSE,
)
# Words between a name and its value that say how the value is written.
_TYPES = _Late(
    rb"""(?:(?:\d{1,2}|enc|encrypted|unencrypted|cleartext|clear|plain|plaintext|ascii(?:-text)?|hex|hexadecimal|hash|hashed
    |md5|sha(?:-?\d{1,3}(?:-\d{1,3})?)?|hmac-\w{1,10}|text|string|value|simple|cipher|irreversible-cipher|secret|password
    |passphrase|pre-shared-key|key-string|key|encrypted-password|plain-text|basic|bearer|digest|level[\ \t]\d{1,2}
    |type[\ \t]\d|local|remote|ro|rw)(?:[\ \t]{1,8}|:[\ \t]{0,4})){1,4}""",
    re.VERBOSE | re.IGNORECASE,
)
# So much of a value is looked at to tell whether it is one; the rest belongs to it.
_QUOTED = _Late(rb"""(["'])((?:\\.|(?!\1)[^\\\n]){0,256})""", re.DOTALL)
_REST_OF_QUOTED = {
    b'"': _Late(rb'(?:\\.|[^"\\\n])*', re.DOTALL),
    b"'": _Late(rb"(?:\\.|[^'\\\n])*", re.DOTALL),
}
_REST_OF_BARE = _Late(rb"[^\s\"'<>]*")
_REST_OF_ELEMENT = _Late(rb"[^<]{0,65536}")
_MARK = _Late(rb"\[secret [0-9a-f]{6}\]")
_BLOCK = _Late(rb"[|>][+-]?\d?[ \t]*\r?\n(?P<indent>[ \t]+)")
_BLOCK_BEGINS = _Late(rb"\|[+-]?\d?[ \t]*\r?\n")
_BARE = _Late(rb"[^\s\"'<>]{1,256}")
_ELEMENT_TEXT = _Late(rb"[^<]{1,256}")
# What stands for a secret that is elsewhere, or for one that somebody hid before.
_REFERENCE = _Late(
    rb"\$\{|\{\{|\$\(|\$[A-Z_]{2,}\b|(?:env|file|command|keyring):|%\(|<%|\*{3,}$|<[^>]*>$|/[\w.-]+/|[A-Za-z]:\\"
)

_WIDEST_LINE = 2000  # bytes of a line that a rule is looked for in, before its sign and behind it
_BEGIN = _Late(rb"-----BEGIN (?:[A-Z0-9 ]{0,40}PRIVATE KEY(?: BLOCK)?|OpenVPN [\w -]{3,40})-----")
_KEY_LINES = _Late(rb"(?:\s|\\[nrt])*")


def keeps_to_lines(content: bytes) -> bool:
    """Whether what stands more than `reach_of` bytes before or behind a line has no say in what is a secret in it.

    A private key, an element, a block scalar and a value with an escaped line feed may go on for any number of lines.
    """
    if b"<" in content or b">" in content or b"-----BEGIN" in content or _IS_SECRET.search(content):
        return False
    if b"\\" in content and (b"\\\n" in content or b"\\\r" in content):
        return False
    return b"|" not in content or _BLOCK_BEGINS.search(content) is None


def reach_of(known_secrets: Sequence[bytes]) -> int:
    """How many bytes before and behind a line have a say in what is hidden in it, where a text keeps to lines."""
    return _REACH + _WIDEST * max(map(len, known_secrets), default=0)


def secret_spans(content: bytes) -> Iterator[_Span]:
    """Where secrets begin and end in a text; they may overlap."""
    lowered = content.lower()
    yield from _named(content, lowered)
    for sign, rule in _table().rules:
        if sign in lowered:
            yield from _by_rule(content, lowered, sign, rule.compiled)
    if _IS_SECRET.search(content):
        yield from _of_secrets(content)
    for sign, form in _table().forms:
        yield from _by_form(content, sign, form.compiled)
    yield from _private_keys(content)


def _by_rule(content: bytes, lowered: bytes, sign: bytes, rule: re.Pattern[bytes]) -> Iterator[_Span]:
    """What a rule finds in the lines that hold its sign; each line is looked at once."""
    seen = 0
    for at in _all(lowered, sign):
        if at < seen:
            continue
        start = max(content.rfind(b"\n", 0, at) + 1, at - _WIDEST_LINE)
        feed = content.find(b"\n", at, at + _WIDEST_LINE)
        seen = feed if feed >= 0 else min(len(content), at + _WIDEST_LINE)
        for match in rule.finditer(content, start, seen):
            for group in range(1, rule.groups + 1):
                span = match.span(group)
                if span[1] > span[0] and not _MARK.match(content, span[0]) and not _refers(match[group]):
                    yield span


def _refers(value: bytes) -> bool:
    return _REFERENCE.match(value.strip(b"\"'")) is not None


# A resource of Kubernetes whose every value is a secret, as YAML, and its parts.
_IS_SECRET = _Late(rb"^kind:[ \t]*[\"']?Secret[\"']?[ \t]*\r?$", re.MULTILINE)
_DATA = _Late(rb"^(?:data|stringData):[ \t]*\r?\n((?:[ \t]+[^\n]*\n?|\r?\n){1,10000})", re.MULTILINE)
_ENTRY = _Late(rb"^([ \t]+)[\"']?[\w.-]{1,253}[\"']?:[ \t]+(?![|>])([^\n]{1,65536})", re.MULTILINE)


def _of_secrets(content: bytes) -> Iterator[_Span]:
    """What stands under any name in a Kubernetes Secret."""
    at = 0
    for document in content.split(b"\n---"):
        if _IS_SECRET.search(document):
            for data in _DATA.finditer(document):
                for entry in _ENTRY.finditer(document, data.start(1), data.end(1)):
                    value = entry[2].rstrip()
                    if not _MARK.match(value) and value not in (b'""', b"''"):
                        yield at + entry.start(2), at + entry.start(2) + len(value)
        at += len(document) + 4


def _by_form(content: bytes, sign: bytes, form: re.Pattern[bytes]) -> Iterator[_Span]:
    at = content.find(sign)
    while at >= 0:
        match = form.match(content, at)
        if match:
            yield match.span(form.groups)
        at = content.find(sign, match.end() if match else at + len(sign))


def _private_keys(content: bytes) -> Iterator[_Span]:
    """What stands in private keys (RFC 7468, RFC 4880), of which nothing need be whole."""
    end = -1
    for begin in _BEGIN.finditer(content):
        if end < begin.end():
            end = content.find(b"-----END", begin.end())
            end = end if end >= 0 else len(content)
        following = content.find(b"-----BEGIN", begin.end(), end)
        stop = following if following >= 0 else end
        blank = _KEY_LINES.match(content, begin.end(), stop)
        start = blank.end() if blank else begin.end()
        while stop > start and content[stop - 1 : stop].isspace():
            stop -= 1
        if stop > start and not _MARK.match(content, start):
            yield start, stop


# ---- by name ---------------------------------------------------------------------------------------------------------


def _named(content: bytes, lowered: bytes) -> Iterator[_Span]:
    """What stands behind names of secrets."""
    places = sorted({at for sign in _SIGNS for at in _all(lowered, sign)})
    seen = 0
    for at in places:
        if at < seen:
            continue
        start, end = _token(content, at)
        seen = end
        if start and _MARK.match(content, start - 1):
            continue  # of one that is hidden already
        line = content.rfind(b"\n", max(0, start - _BEFORE), start) + 1 or max(0, start - _BEFORE)
        if content[start - 2 : start] == b"</" or not _is_secret(content[start:end], content[line:start]):
            continue
        span = _value(content, start, end, content[line:start])
        if span is not None:
            seen = max(seen, span[1])
            yield span


def _all(text: bytes, sign: bytes) -> Iterator[int]:
    at = text.find(sign)
    while at >= 0:
        yield at
        at = text.find(sign, at + len(sign))


def _token(content: bytes, at: int) -> _Span:
    """The name that stands at this place."""
    start = end = at
    while start > 0 and at - start < _LONGEST_NAME and content[start - 1] in _NAME_BYTES:
        start -= 1
    while end < len(content) and end - at < _LONGEST_NAME and content[end] in _NAME_BYTES:
        end += 1
    return start, end


def _is_secret(name: bytes, before: bytes) -> bool:
    """Whether what is called by this name is a secret; `before` stands in its line before it."""
    if name.lower() == b"key":
        return _is_key(before)
    if name.lower() == b"nopasswd":
        return False  # of sudo: that none is asked
    if name.lower() == b"community":
        return _last_word(before).lower() not in _PLAIN_WORDS
    if name.lower() in (b"pin", b"pass", b"pw") and not _stands_alone(before):
        return False
    return _names_secret(name.rstrip(b".-_"))


def _stands_alone(before: bytes) -> bool:
    """Whether a short name is one: at the beginning of its line, in quotes, or as a field."""
    return (
        not before.strip() or before.rstrip()[-1:] in b"\"'<{,;&?.:([" or _last_word(before).lower() in _table().of_keys
    )


def _is_key(before: bytes) -> bool:
    """A bare `key`: of what stands before it, or by itself where a line begins."""
    return (
        not before.strip()
        or _last_word(before).lower().rpartition(b"-")[2] in _table().of_keys
        or bool(
            re.search(rb"\b(?:tacacs|radius|server-private|isakmp|authentication|wpa|wep)\b", before, re.IGNORECASE)
        )
    )


def _last_word(before: bytes) -> bytes:
    words = before.split()
    return words[-1].strip(b"\"'") if words else b""


@lru_cache(maxsize=4096)
def _names_secret(name: bytes) -> bool:
    words = [word.lower() for word in _WORDS.findall(name)]
    if b"".join(words[-2:]) == b"keystring":
        return True
    while words and (words[-1] in _table().still or words[-1].isdigit()):
        words.pop()
    if not words:
        return False
    last = words[-1]
    if last == b"key":
        return len(words) > 1 and words[-2] in _table().of_keys
    if last == b"auth":
        return words[-2:-1] == [b"master"]
    if last == b"pin":
        return len(words) > 1 or name.lower() == b"pin"
    return last in _table().names or last.endswith(_table().endings) or b"".join(words[-2:]) in _table().names


def _value(content: bytes, start: int, end: int, before: bytes) -> _Span | None:
    """The value of a name that stands there; None where there is none."""
    separator = _SEPARATOR.match(content, end)
    if separator is None or separator.end() == end:
        return None
    at, between = separator.end(), separator[0]
    if between.rstrip()[-1:] == b">" and b"=" not in between.rstrip()[-2:]:
        return _element(content, at) if b"<" in before else None
    assigned = between.strip().strip(b"\"'") != b""
    if not assigned and content[start:end] in _FORWARDS:
        return None
    if assigned and (block := _BLOCK.match(content, at)):
        return None if _MARK.match(content, block.end()) else _indented(content, block)
    bare_key = content[start:end].lower() == b"key"
    types = _TYPES.match(content, at)
    if types and content[types.end() : types.end() + 1].strip():
        at = types.end()
    elif bare_key and not assigned and _last_word(before) == b"" and not _is_alone(content, at):
        return None
    return _taken(content, at, before, assigned=assigned, typed=types is not None and at == types.end())


def _is_alone(content: bytes, at: int) -> bool:
    """Whether nothing but one word that is no number stands in the rest of a line."""
    end = content.find(b"\n", at, at + _LONGEST_VALUE)
    rest = content[at : end if end >= 0 else at + _LONGEST_VALUE].split()
    return len(rest) == 1 and not rest[0].isdigit() and rest[0] not in (b"{", b";", b"=")


def _element(content: bytes, at: int) -> _Span | None:
    text = _ELEMENT_TEXT.match(content, at)
    if text is None:
        return None
    bare = text[0].strip()
    if not bare or _is_no_secret(bare, quoted=True):
        return None
    end = _end(_REST_OF_ELEMENT, content, text.end())
    return at + len(text[0]) - len(text[0].lstrip()), at + len(content[at:end].rstrip())


def _indented(content: bytes, block: re.Match[bytes]) -> _Span:
    """The lines of a block scalar (YAML 1.2, 8.1): as far as they are indented."""
    indent, start = block["indent"], block.end()
    end = start
    for _ in range(200):
        feed = content.find(b"\n", end, end + _LONGEST_VALUE)
        end = feed if feed >= 0 else min(len(content), end + _LONGEST_VALUE)
        if feed < 0 or not content.startswith(indent, feed + 1):
            break
        end = feed + 1 + len(indent)
    return start, end


def _taken(content: bytes, at: int, before: bytes, *, assigned: bool, typed: bool) -> _Span | None:
    """A value in quotes, a word, or, of what is assigned by itself in a line, the rest of the line."""
    if _MARK.match(content, at):
        return None
    quoted = _QUOTED.match(content, at)
    if quoted:
        if not quoted[2] or _is_no_secret(quoted[2], quoted=True):
            return None
        return quoted.start(2), _end(_REST_OF_QUOTED[quoted[1]], content, quoted.end())
    word = _BARE.match(content, at)
    if word is None:
        return None
    value = word[0].rstrip(b",;)}]")
    comment = _COMMENT.match(before) is not None
    rest = content[word.end() : word.end() + _BEFORE].partition(b"\n")[0]
    if not typed and _is_no_secret(value, quoted=False):
        return None
    if comment and not typed and (rest.strip(b"\r \t.") or not (assigned or _looks_made(value))):
        return None
    end = at + len(value)
    if word.end() < len(content) and not content[word.end() : word.end() + 1].isspace():
        end = _end(_REST_OF_BARE, content, word.end())
    elif assigned and not comment and rest.strip() and _begins_line(before) and b"#" not in rest and b"," not in value:
        feed = content.find(b"\n", word.end())
        end = word.end() + len(content[word.end() : feed if feed >= 0 else len(content)].rstrip())
    return (at, end) if end > at else None


def _end(rest: _Late, content: bytes, at: int) -> int:
    """How far a value goes of which the beginning was looked at."""
    match = rest.match(content, at)
    return match.end() if match else at


def _begins_line(before: bytes) -> bool:
    return not before.strip() or before.strip() in (b"export", b"-", b"set")


def _looks_made(value: bytes) -> bool:
    """Whether a word in a comment is none of any language."""
    return len(value) > 5 and bool(re.search(rb"\d", value)) and bool(re.search(rb"[A-Za-z]", value))


def _is_no_secret(value: bytes, *, quoted: bool) -> bool:
    """Whether this only speaks of secrets, or refers to one."""
    bare = value.strip().lower()
    if not bare or bare in _table().no_values or _REFERENCE.match(value) or _MARK.match(value):
        return True
    if re.fullmatch(rb"\d{1,2}[smhdwy]?|[\d.:/,-]{1,3}|\d+:\d+|-{1,2}|[=:{}()\[\]|]+", bare):
        return True
    return not quoted and bare.endswith((b"(", b"{")) and not bare[:-1].isalnum()


# ---- what may be one -------------------------------------------------------------------------------------------------

_LONG = _Late(rb"(?<![\w+/=.:-])[A-Za-z0-9+/_-]{20,120}={0,2}(?![\w+/=.:-])")
_PUBLIC = _Late(
    rb"public|ssh-(?:rsa|ed25519|dss)|ecdsa-|certificate|fingerprint|digest|checksum|\bsha|md5|uuid|serial|\bhash|version"
    rb"|urn:|://|\bid\b",
    re.IGNORECASE,
)
_BITS = 3.6  # of information in a letter, from which on a word is no name
_MOST_WORDS = 100


def random_words(hidden: bytes) -> list[int]:
    """The lines, counted from 1, of a text fit for eyes in which a word looks like a secret that nobody hid.

    A long word of small letters, capitals and digits by chance; not in certificates, and not where the line says that
    it is public.
    """
    found: list[int] = []
    inside = False
    for number, line in enumerate(hidden.split(b"\n"), 1):
        inside = (inside or b"-----BEGIN " in line) and b"-----END " not in line
        if inside or len(line) > _LONGEST_VALUE or _PUBLIC.search(line):
            continue
        if any(_is_random(word[0]) for word in _LONG.finditer(line)):
            found.append(number)
        if len(found) == _MOST_WORDS:
            break
    return found


def _is_random(word: bytes) -> bool:
    kinds = (rb"[a-z]", rb"[A-Z]", rb"\d")
    counts = Counter(word)
    bits = -sum(count / len(word) * log2(count / len(word)) for count in counts.values())
    return all(re.search(kind, word) for kind in kinds) and bits >= _BITS


# ---- secrets that are known ------------------------------------------------------------------------------------------


@lru_cache(maxsize=256)  # every source of an account has masks of its own
def forms_of(secret: bytes) -> tuple[Expression, ...]:
    """Expressions for a secret that is known, in the forms in which it may come back.

    As it is, in any case, also broken by blanks and line ends; as forms, addresses (RFC 3986), JSON, markup,
    hexadecimal digits and base64 (RFC 4648), at any offset, write it, once or twice over.
    """
    text = secret.decode("utf-8", "replace")
    once = {form for case in (text, text.upper(), text.lower()) for form in _written(case)}
    twice = {form for one in once for form in _written(one)}
    spelt = {
        "".join(f"&#{ord(char)};" for char in text),
        "".join(f"&#x{ord(char):x};" for char in text),
        "".join(f"\\u{ord(char):04x}" for char in text),
        "".join(f"\\x{byte:02x}" for byte in secret),
        "".join(f"%{byte:02x}" for byte in secret),
        secret.hex(),
        secret.hex(" "),
        secret.hex(":"),
    }
    written = {one.encode("utf-8", "replace") for one in once | twice | spelt if len(one) >= len(text)} | {secret}
    made = [_any_of(written, b"(?i)")]
    encoded = {form for data in (secret, text.encode("utf-16-le")) for form in _in_base64(data)}
    if encoded:
        made.append(_any_of(encoded))
    if len(secret) >= _BROKEN:
        letters = (re.escape(secret[at : at + 1]) for at in range(len(secret)))
        made.append(Expression(rb"(?:\\\r?\n|[ \t\r\n]){0,3}".join(letters)))
    return tuple(made)


def _written(text: str) -> set[str]:
    """A text as it is, and as others write it."""
    return {
        text,
        quote(text, safe=""),
        quote(text),
        quote_plus(text),
        json.dumps(text)[1:-1],
        json.dumps(text, ensure_ascii=False)[1:-1],
        escape(text),
        repr(text)[1:-1],
    }


def _any_of(forms: set[bytes], flags: bytes = b"") -> Expression:
    return Expression(flags + b"|".join(map(re.escape, sorted(forms, key=len, reverse=True))))


_BROKEN = 6  # a shorter secret, broken by blanks, stands in many texts by chance
_OFFSET_CORE = 6  # characters of base64 that belong to nothing else


def _in_base64(data: bytes) -> Iterator[bytes]:
    """The characters that stand for these bytes alone, at each offset within what is encoded."""
    for shift in range(3):
        whole = base64.b64encode(bytes(shift) + data)
        first = -(-shift * 8 // 6)
        last = (shift + len(data)) * 8 // 6
        core = whole[first:last]
        if len(core) >= _OFFSET_CORE:
            yield core
            yield core.replace(b"+", b"-").replace(b"/", b"_")


def cut_off(secret: bytes, content: bytes) -> Iterator[_Span]:
    """What is left of a known secret where a text was cut off in the middle of it: half of it, or more."""
    least = max(4, len(secret) // 2)
    for size in range(min(len(secret) - 1, len(content)), least - 1, -1):
        if content.endswith(secret[:size]):
            yield len(content) - size, len(content)
            break
    for size in range(min(len(secret) - 1, len(content)), least - 1, -1):
        if content.startswith(secret[-size:]):
            yield 0, size
            break
