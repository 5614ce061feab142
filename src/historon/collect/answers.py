"""What an answer says: values found in it, and whether it is a good one."""

import re
from collections.abc import Mapping, Sequence
from typing import Any

from historon.collect.transports.interface import Answer
from historon.collect.transports.xml import parse_markup
from historon.estate import Check, Finder, Pattern

__all__ = ["choose", "field_of", "find", "find_one", "has_wrong_status", "whats_wrong"]

_MOST = 10_000


def find(finder: Finder, answer: Answer) -> Any:
    """What stands at this place: a text, a number, a table or a list. LookupError when nothing does."""
    kind, place = finder.kind, finder.place
    if kind == "json":
        return _pointed(answer.json, place)
    found: Any
    if kind in ("header", "cookie"):
        names = answer.headers if kind == "header" else answer.cookies
        found = next((value for name, value in names.items() if name.lower() == place.strip().lower()), None)
    elif kind.startswith("xpath"):
        found = _by_xpath(answer.content, place, every=kind == "xpaths")
    else:
        found = _by_pattern(answer.content, place, every=kind == "patterns")
    if found is None or found == []:
        raise LookupError(f"the answer has no {finder}")
    return found


def find_one(finder: Finder, answer: Answer) -> Any:
    """The same, where only one thing stands there: LookupError where there are different ones to choose from."""
    if finder.kind not in ("pattern", "xpath"):
        return find(finder, answer)
    every = Finder(f"{finder.kind}s:{finder.place}")
    try:
        found = find(every, answer)
    except LookupError as exc:
        raise LookupError(str(exc.args[0]).replace(every, finder)) from exc
    if any(one != found[0] for one in found):
        raise LookupError(f"{finder} finds different values: narrow it, or learn all with {every} and pick one")
    return found[0]


def _pointed(data: Any, pointer: str) -> Any:
    """RFC 6901 section 4."""
    at = data
    for token in pointer.split("/")[1:]:
        key = token.replace("~1", "/").replace("~0", "~")
        if isinstance(at, Mapping) and key in at:
            at = at[key]
        elif isinstance(at, list) and re.fullmatch(r"0|[1-9]\d{0,8}", key) and int(key) < len(at):
            at = at[int(key)]
        else:
            raise LookupError(f"the answer has no json:{pointer}")
    return at


def _by_xpath(content: bytes, expression: str, *, every: bool) -> Any:
    found = parse_markup(content).xpath(expression)
    values = found if isinstance(found, list) else [found]
    texts = [_xpath_value(one) for one in values[:_MOST]]
    if every:
        return [*map(_spoken, texts)]
    return _spoken(texts[0]) if texts else None


def _xpath_value(found: Any) -> Any:
    """What an expression found: numbers without a fraction as whole ones, of an element all its text."""
    if isinstance(found, float) and found.is_integer():
        return int(found)
    if isinstance(found, (str, float, bool)):
        return found
    return "".join(found.itertext()).strip()


def _by_pattern(content: bytes, expression: str, *, every: bool) -> Any:
    """Groups with names make a table, one group or none a text."""
    found = []
    for match in Pattern.parse(expression).compiled.finditer(content):
        named = {name: (value or b"").decode("utf-8", "replace") for name, value in match.groupdict().items()}
        found.append(named or (match[1] if match.re.groups else match[0] or b"").decode("utf-8", "replace"))
        if not every or len(found) >= _MOST:
            break
    if every:
        return found
    return found[0] if found else None


def whats_wrong(answer: Answer, expect: Check | None, *, strict: bool = True) -> str | None:
    """How an answer is not as expected, in words; None when all is well.

    Where nothing else is expected, a program ends with exit code 0 and a server answers with a status of success (RFC
    9110 section 15.3); unless it need not be strict.
    """
    wanted = expect or Check(lacks=_NOTHING)
    wrong = _wrong_code(answer, wanted, strict=strict)
    if wrong:
        return wrong
    for place, pattern in wanted.value.items():
        try:
            value = _spoken(find(Finder.parse(place), answer))
        except LookupError as exc:
            return str(exc.args[0])
        if not pattern.compiled.fullmatch(value.encode()):
            return f'{place} is "{value[:100]}", not {pattern}'
    for pattern in wanted.holds:
        if not pattern.compiled.search(answer.content):
            return f"the answer lacks {pattern}"
    for pattern in wanted.lacks:
        found = pattern.compiled.search(answer.content)
        if found:
            return f'the answer contains "{found[0][:100].decode("utf-8", "replace")}"'
    return None


_NOTHING = (Pattern.parse(r"\b\B"),)


def has_wrong_status(answer: Answer, expect: Check | None) -> bool:
    """Whether it is the server's status that is not as expected."""
    wanted = expect.status if expect else None
    return answer.status is not None and not _is_wanted(answer.status, wanted, fine=200 <= answer.status < 300)


def _wrong_code(answer: Answer, wanted: Check, *, strict: bool) -> str | None:
    ended, status = answer.exit_code, answer.status
    if ended is not None and not _is_wanted(ended, wanted.exit_code, fine=ended == 0 or not strict):
        return f"the command ended with exit code {ended}"
    if status is not None and not _is_wanted(status, wanted.status, fine=200 <= status < 300 or not strict):
        return f"the server answered with status {status}"
    return None


def _is_wanted(given: int, expected: int | tuple[int, ...] | None, *, fine: bool) -> bool:
    """Whether it is one of those expected; where none is, whether it is `fine`."""
    if expected is None:
        return fine
    return given in (expected if isinstance(expected, tuple) else (expected,))


def _spoken(value: Any) -> str:
    if value is None:
        return "null"
    return str(value).lower() if isinstance(value, bool) else str(value)


def choose(items: Any, where: Mapping[str, Pattern]) -> list[Any]:
    """Those of a list whose fields match; a text has itself as its field `text`. LookupError when it is no list."""
    if isinstance(items, Mapping):
        items = [{"key": key, "value": value} for key, value in items.items()]
    if not isinstance(items, Sequence) or isinstance(items, str):
        raise LookupError("the answer is not a list")
    return [item for item in items if _is_meant(item, where)]


def _is_meant(item: Any, where: Mapping[str, Pattern]) -> bool:
    told = [(pattern, _spoken(field_of(item, name))) for name, pattern in where.items()]
    return all(pattern.compiled.search(text.encode()) for pattern, text in told)


def field_of(item: Any, name: str) -> Any:
    """A field of an item: a key, a JSON Pointer, or `text` for an item that is a text. None when it has none such."""
    if isinstance(item, str):
        return item if name == "text" else None
    if name.startswith("/"):
        try:
            return _pointed(item, name)
        except LookupError:
            return None
    return item.get(name) if isinstance(item, Mapping) else None
