"""Retentions that became shorter since versions were last removed by them: the first pruning waits for a person."""

import json
from collections.abc import Iterable

import msgspec

from historon.estate import Duration, Estate, Retention, Size
from historon.store import Store

__all__ = ["note_retention", "shortened"]

_TOPIC = "retention"  # by which a source was pruned last, as JSON
_KEYS = ("all", "hour", "day", "week", "month", "year", "at_least", "at_most", "size", "noise", "suspect")
_LIMITS = ("at_most", "size", "noise")  # without which more stays


def shortened(estate: Estate, store: Store, names: Iterable[str]) -> dict[str, str]:
    """The sources whose retention keeps less than the one that they were last pruned by, each in words. StoreError."""
    known = store.recall_all(_TOPIC)
    found = {}
    for name in names:
        retention = _of(estate, name)
        if retention is None or name not in known:
            continue
        try:
            was = msgspec.convert(json.loads(known[name]), Retention, strict=False, dec_hook=_parsed)
        except ValueError:
            found[name] = f"the record of the last pruning by retention {name} is unreadable"
            continue
        less = [key for key in _KEYS if _is_less(key, getattr(was, key), getattr(retention, key))]
        if less:
            key = less[0]
            old, new = getattr(was, key), getattr(retention, key)
            words = f"{key} is {new if new is not None else 'removed'}, was {old if old is not None else 'not set'}"
            found[name] = f"retention {estate.sources[name].retention} became shorter: {words}"
    return found


def note_retention(estate: Estate, store: Store, names: Iterable[str]) -> None:
    """Note by which retention sources were pruned. StoreError."""
    known = store.recall_all(_TOPIC)
    written = {}
    for name in names:
        retention = _of(estate, name)
        if retention is not None:
            written[name] = json.dumps(
                {key: str(value) for key in _KEYS if (value := getattr(retention, key)) is not None}
            )
    store.remember_all(_TOPIC, {name: text for name, text in written.items() if known.get(name) != text})


def _of(estate: Estate, name: str) -> Retention | None:
    source = estate.sources.get(name)
    return estate.retention[source.retention] if source is not None and source.retention is not None else None


def _is_less(key: str, was: object, now: object) -> bool:
    if was == now:
        return False
    if was is None or now is None:
        return (now is not None) == (key in _LIMITS)
    return now < was  # type: ignore[operator,no-any-return]


def _parsed(kind: type, written: object) -> object:
    if issubclass(kind, Duration | Size):
        return kind.parse(written)
    raise NotImplementedError
