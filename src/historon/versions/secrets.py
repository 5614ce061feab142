"""Where secrets stand in configurations of any make, told by what stands around them.

Everything here takes time in proportion to the length of a text, whatever it holds: signs are looked for first, and
around each only so many bytes are looked at; what was found is not looked at again.
"""

import base64
import json
import re
from collections import Counter
from collections.abc import Iterator, Sequence
from functools import lru_cache
from html import escape
from math import log2
from urllib.parse import quote, quote_plus

from historon.estate import Expression

__all__ = ["cut_off", "forms_of", "keeps_to_lines", "random_words", "reach_of", "secret_spans"]

_REACH = 400  # bytes of whole lines before and behind one that may have a say in it, where secrets keep to lines
_WIDEST = 4  # bytes that a letter of a known secret takes where line ends break it

_Span = tuple[int, int]

# One of these stands in every name of a secret, and in all else that is looked for by name.
# Directives of web servers that say where a request is passed on to.
_FORWARDS = {b"proxy_pass", b"fastcgi_pass", b"uwsgi_pass", b"scgi_pass", b"grpc_pass", b"memcached_pass"}
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
    b"createuser",
    b"wep",
    b"pin",
)
_NAME_BYTES = frozenset(b"ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789_.-")
_LONGEST_NAME = 64
_LONGEST_VALUE = 4096
_BEFORE = 100  # bytes of the line before a name that are looked at

# What a name is made of: `wpa_passphrase`, `keystorePass`, `DB_PASSWORD` are words one behind the other.
_WORDS = re.compile(rb"[A-Z]+(?![a-z])|[A-Z]?[a-z]+|\d+")
_SECRET_WORDS = frozenset(
    b"""
    password passwd passwort pwd pass passphrase passcode pw secret psk presharedkey token community apikey authkey
    privkey privatekey secretkey accesskey credential credentials passkey sharedkey authpass privpass keystring
    """.split()
)
_ENDINGS = tuple(
    b"""
    password passwd passphrase passcode secret psk token community apikey authkey privkey bindpw rootpw userpw adminpw
    requirepass storepass masterauth sharedkey keystring
    """.split()
)
# Words that make a secret of a `key` that they stand before.
_OF_KEYS = frozenset(
    b"""
    private preshared shared pre psk api auth authentication access secret encryption encrypt crypt cipher master
    session wep wpa hmac signing account storage digest isakmp ike ipsec server tacacs radius tsig bgp ospf md5 ppk
    service subscription privacy integrity hello domain area tcp unlock admin client
    """.split()
)
# Words behind a secret's word that do not make something else of it.
_STILL = frozenset(
    b"""
    value text string hash hashed encrypted enc plain cleartext clear old new current hex ascii data set md5 sha sha1
    sha256
    """.split()
)
# What a secret's word is followed by when it is about secrets, and is none.
_NO_VALUES = frozenset(
    b"""
    policy minimum maximum min max length min-length minimum-length max-length expires expiry expire expired expiration
    age history encryption recovery strength complexity required require requirements change changes reset prompt
    authentication authenticate protection database file path is are was were be been has have had must should shall
    will would can may for of the a an to in on at by with from and or not no if when before after see ask kept stored
    here there below above please per via as it this that these those none null nil yes true false off on enable enabled
    disable disabled optional default aging lifetime lockout retry retries attempts check quality storage format only
    manager rotation rotate generate exchange chain ring id server-group both extended standard large list additive
    internet local-as no-export no-advertise send expanded permit deny match hashing level type name rsa dsa ecdsa
    ed25519 zeroize pubkey-chain usage-keys label general-keys mgmt management import export size bits index version
    mode agreement pair
    """.split()
)
_PLAIN_WORDS = frozenset({b"set", b"match", b"send", b"standard", b"expanded", b"delete", b"permit", b"deny"})
_COMMENT = re.compile(
    rb"\s*(?:[#!;]|//|/?\*|--|<!--|(?:rem|description|remark|comment|banner|note|title)\b)", re.IGNORECASE
)

# Between a name and its value: a closing quote, then `=`, `:`, `=>` or blanks. What is called by a name may be told
# by it: `name="password" value="x"`, `<entry key="password">x`, `name: PASSWORD` with `value: x` on the next line.
_SEPARATOR = re.compile(
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
_TYPES = re.compile(
    rb"""(?:(?:\d{1,2}|enc|encrypted|unencrypted|cleartext|clear|plain|plaintext|ascii(?:-text)?|hex|hexadecimal|hash|hashed
    |md5|sha(?:-?\d{1,3}(?:-\d{1,3})?)?|hmac-\w{1,10}|text|string|value|simple|cipher|irreversible-cipher|secret|password
    |passphrase|pre-shared-key|key-string|key|encrypted-password|plain-text|basic|bearer|digest|level[\ \t]\d{1,2}
    |type[\ \t]\d|local|remote|ro|rw)(?:[\ \t]{1,8}|:[\ \t]{0,4})){1,4}""",
    re.VERBOSE | re.IGNORECASE,
)
# So much of a value is looked at to tell whether it is one; the rest belongs to it.
_QUOTED = re.compile(rb"""(["'])((?:\\.|(?!\1)[^\\\n]){0,256})""", re.DOTALL)
_REST_OF_QUOTED = {
    b'"': re.compile(rb'(?:\\.|[^"\\\n])*', re.DOTALL),
    b"'": re.compile(rb"(?:\\.|[^'\\\n])*", re.DOTALL),
}
_REST_OF_BARE = re.compile(rb"[^\s\"'<>]*")
_REST_OF_ELEMENT = re.compile(rb"[^<]{0,65536}")
_MARK = re.compile(rb"\[secret [0-9a-f]{6}\]")
_BLOCK = re.compile(rb"[|>][+-]?\d?[ \t]*\r?\n(?P<indent>[ \t]+)")
_BLOCK_BEGINS = re.compile(rb"\|[+-]?\d?[ \t]*\r?\n")
_BARE = re.compile(rb"[^\s\"'<>]{1,256}")
_ELEMENT_TEXT = re.compile(rb"[^<]{1,256}")
# What stands for a secret that is elsewhere, or for one that somebody hid before.
_REFERENCE = re.compile(
    rb"\$\{|\{\{|\$\(|\$[A-Z_]{2,}\b|(?:env|file|command|keyring):|%\(|<%|\*{3,}$|<[^>]*>$|/[\w.-]+/|[A-Za-z]:\\"
)

_B = rb"[ \t]{1,8}"
_VALUE = rb"(\"[^\"\n]{0,256}\"|[^\s\"']{1,256})"
_DIGEST, _CIPHER = rb"(?:md5|sha[\d-]{0,8})", rb"(?:3?des\d{0,3}|aes(?:[ \t-]?\d{3})?c?)"
_PATTERNS = [
    re.compile(one, re.IGNORECASE)
    for one in (
        # SNMPv3 users (RFC 3414): a digest and its pass phrase, a cipher and its own.
        rb"auth(?:entication)?" + _B + _DIGEST + _B + rb"(?:encrypted" + _B + rb")?" + _VALUE,
        rb"priv(?:acy)?" + _B + _CIPHER + _B + _VALUE,
        rb"createuser"
        + _B
        + rb"(?:-e"
        + _B
        + rb"\S{1,80}"
        + _B
        + rb")?\S{1,80}"
        + _B
        + _DIGEST
        + _B
        + _VALUE
        + rb"(?:"
        + _B
        + _CIPHER
        + _B
        + _VALUE
        + rb")?",
        # HTTP (RFC 9110): credentials behind their scheme.
        rb"authorization[\"']?[ \t]{0,8}[:=,]?[ \t]{0,8}[\"']?[ \t]{0,8}"
        rb"(?:basic|bearer|digest|token|negotiate|apikey)" + _B + rb"([^\s\"',;]{1,4096})",
    )
]
# Known by their own form, wherever they stand.
_FORMS = {
    b"$": re.compile(
        rb"\$(?:1|2[abxy]?|5|6|7|8|9|14|y|gy|apr1|argon2(?:id|i|d)|pbkdf2[\w-]{0,16}|scrypt|sha1|md5)\$[^\s\"'<>;,:]{7,4096}"
    ),
    b"{": re.compile(
        rb"\{(?:S?SHA\d{0,3}|S?MD5|CRYPT|ARGON2\w{0,2}|PBKDF2[\w-]{0,12}|BCRYPT|X-\w{1,12})\}[^\s\"'<>;,]{4,4096}",
        re.IGNORECASE,
    ),
    b"://": re.compile(rb"://[^\s:/@\"'<>]{0,256}:([^\s@\"'<>/]{1,256})@"),
}
_BEGIN = re.compile(rb"-----BEGIN [A-Z0-9 ]{0,40}PRIVATE KEY(?: BLOCK)?-----")
_KEY_LINES = re.compile(rb"(?:\s|\\[nrt])*")


def keeps_to_lines(content: bytes) -> bool:
    """Whether what stands more than `reach_of` bytes before or behind a line has no say in what is a secret in it.

    A private key, an element, a block scalar and a value with an escaped line feed may go on for any number of lines.
    """
    if b"<" in content or b">" in content or b"-----BEGIN" in content:
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
    for sign, form in _FORMS.items():
        yield from _by_form(content, sign, form)
    yield from _private_keys(content)


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
        for pattern in _PATTERNS:
            match = pattern.match(content, start)
            if match:
                yield from (
                    match.span(group)
                    for group in range(1, pattern.groups + 1)
                    if match.start(group) >= 0 and not _MARK.match(content, match.start(group))
                )
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
    return not before.strip() or before.rstrip()[-1:] in b"\"'<{,;&?.:([" or _last_word(before).lower() in _OF_KEYS


def _is_key(before: bytes) -> bool:
    """A bare `key`: of what stands before it, or by itself where a line begins."""
    return (
        not before.strip()
        or _last_word(before).lower().rpartition(b"-")[2] in _OF_KEYS
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
    while words and (words[-1] in _STILL or words[-1].isdigit()):
        words.pop()
    if not words:
        return False
    last = words[-1]
    if last == b"key":
        return len(words) > 1 and words[-2] in _OF_KEYS
    if last == b"auth":
        return words[-2:-1] == [b"master"]
    if last == b"pin":
        return len(words) > 1 or name.lower() == b"pin"
    return last in _SECRET_WORDS or last.endswith(_ENDINGS) or b"".join(words[-2:]) in _SECRET_WORDS


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


def _end(rest: re.Pattern[bytes], content: bytes, at: int) -> int:
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
    if not bare or bare in _NO_VALUES or _REFERENCE.match(value) or _MARK.match(value):
        return True
    if re.fullmatch(rb"\d{1,2}[smhdwy]?|[\d.:/,-]{1,3}|\d+:\d+|-{1,2}|[=:{}()\[\]|]+", bare):
        return True
    return not quoted and bare.endswith((b"(", b"{")) and not bare[:-1].isalnum()


# ---- what may be one -------------------------------------------------------------------------------------------------

_LONG = re.compile(rb"(?<![\w+/=.:-])[A-Za-z0-9+/_-]{20,120}={0,2}(?![\w+/=.:-])")
_PUBLIC = re.compile(
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
