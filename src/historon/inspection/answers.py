"""Answers that are no export: what devices say instead of one, also as the first that ever came."""

import json
import re
from collections.abc import Mapping

import msgspec
from msgspec import UNSET

from historon.estate import Procedure

__all__ = ["STATE_NAMES", "STATE_WORDS", "document_error", "error_line", "no_export"]

# What devices of many makes answer to a command they do not know or do not allow. As such words may also begin a
# line of a configuration, they are looked for only where an answer begins and ends.
_ERROR = re.compile(
    rb"^\W{0,3}(?:error\b(?![-_./=\[])|invalid (?:command|input|syntax)|unknown command|unrecognized command"
    rb"|syntax error|incomplete command|ambiguous command|command not found|permission denied|access (?:is )?denied"
    rb"|not authori[sz]ed|(?:the )?configuration database (?:is )?locked"
    rb"|(?:[\w./-]+: ){1,2}(?:line \d+: )?(?:[\w./ -]+: )?"
    rb"(?:command not found|not found|permission denied|access denied|no such file or directory)\s*$)",
    re.IGNORECASE,
)
# In an answer of a line or two these words say it anywhere.
_TROUBLE = re.compile(
    rb"\b(?:error|failed|failure|denied|locked|not found|refused|timed? ?out|unavailable|no such|cannot|could not"
    rb"|unable to|invalid|unauthori[sz]ed|forbidden|expired|try again|not allowed|not supported|aborted)\b",
    re.IGNORECASE,
)
_EDGE = 5  # lines
_SHORT_LINES, _SHORT = 2, 200  # lines and bytes of an answer that is read as a sentence
_SMALL = 4096  # bytes of a document that may say no more than how things stand
_MOST_IN_ERROR = 6  # names in an object that does not say more than that something went wrong
STATE_NAMES = ("status", "result", "outcome", "state")
STATE_WORDS = frozenset({"error", "failure", "failed", "fail"})
# Names in what is wrapped around an answer, and is none.
_ENVELOPE = frozenset(
    {"code", "detail", "message", "msg", "ok", "outcome", "reason", "result", "state", "status", "success", "title"}
)


def error_line(answer: bytes, procedure: Procedure) -> str | None:
    """The first line of an answer that is an error message: by the procedure's own patterns, or by common ones."""
    if procedure.errors is UNSET:
        found = next((line for line in _edge_lines(answer) if _ERROR.search(line)), None)
    else:
        lines = answer.split(b"\n")
        wrong = [error.compiled for error in procedure.errors]
        found = next((line for line in lines if any(error.search(line) for error in wrong)), None)
    return None if found is None else _shown(found)


def no_export(content: bytes) -> str:
    """What a small answer says that is no export: nothing, or only how things stand; empty for any other."""
    text = content.strip()
    if not text or len(text) > _SMALL:
        return ""
    try:
        data = msgspec.json.decode(text)
    except (msgspec.DecodeError, ValueError, RecursionError):
        lines = text.split(b"\n")
        if len(text) <= _SHORT and len(lines) <= _SHORT_LINES and _TROUBLE.search(text) and b"=" not in text:
            return f'says only "{_shown(lines[0])}"'
        return ""
    if data in (None, {}, [], "", 0) or isinstance(data, bool):
        return f'says only "{_shown(text)}"'
    rows = data if isinstance(data, list) else [data]
    if len(rows) <= 2 and all(isinstance(row, dict) and _is_envelope(row) for row in rows):
        return f'says only "{_shown(text)}"'
    return ""


def _is_envelope(row: Mapping[str, object]) -> bool:
    return all(key.lower() in _ENVELOPE and not isinstance(value, (dict, list)) for key, value in row.items())


def document_error(data: Mapping[str, object]) -> str:
    """What an object says that is nothing but an error, as it may be shown; empty for any other."""
    if len(data) > _MOST_IN_ERROR:
        return ""
    told = {key.lower(): value for key, value in data.items()}
    for key in ("error", "errors", "exception", "fault"):
        if told.get(key):
            return json.dumps(told[key], ensure_ascii=False)[:120]
    for key in STATE_NAMES:
        if isinstance(told.get(key), str) and str(told[key]).lower() in STATE_WORDS:
            return f'{key} is "{told[key]}"'
    return ""


def _edge_lines(answer: bytes) -> list[bytes]:
    """The first and the last lines."""
    *first, rest = answer.split(b"\n", _EDGE)
    return first + rest.rsplit(b"\n", _EDGE)[-_EDGE:]


def _shown(line: bytes) -> str:
    return line.decode("utf-8", "replace").strip()[:120]
