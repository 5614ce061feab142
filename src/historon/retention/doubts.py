"""Why a person should look before versions are removed: a clock that may be wrong, too many, a shorter retention."""

import json
from collections.abc import Iterable, Mapping, Sequence
from datetime import datetime, timedelta
from statistics import median

import msgspec

from historon.estate import Duration, Estate, Retention, Share, Size, describe
from historon.retention.verdicts import Verdict
from historon.store import SKEW, Store

__all__ = ["clock_doubt", "note_retention", "shortened", "too_many", "too_many_of"]

_AHEAD = timedelta(days=35)  # after the last round: an estate that is collected at all is collected once a month
_BEHIND = timedelta(days=1)
_SKEWED = timedelta(days=1)
_OF_A_SOURCE = 0.5
_FEW = 2  # of a source that may be removed whatever share they are
_TOPIC = "retention"  # by which a source was pruned last, as JSON
_KEYS = ("all", "hour", "day", "week", "month", "year", "at_least", "at_most", "size", "noise", "suspect")
_LIMITS = ("at_most", "size", "noise")  # without which more stays


def clock_doubt(store: Store, now: datetime) -> str:
    """Why the clock may be wrong, in words; empty when nothing speaks against it.

    It is compared with the last round's instant, and with what devices said of their own clocks when they were last
    asked. StoreError when the ledger cannot be read.
    """
    last = next(iter(store.rounds(1)), None)
    if last is not None and now < last.began - _BEHIND:
        return f"by this machine's clock the last round begins only in {describe(last.began - now)}"
    if last is not None and now > last.began + _AHEAD:
        return f"by this machine's clock the last round began {describe(now - last.began)} ago"
    skews = [float(text) for text in store.recall_all(SKEW).values()]
    typical = timedelta(seconds=median(skews) if skews else 0)
    if abs(typical) > _SKEWED:
        where = "behind" if typical > timedelta() else "ahead of"
        return f"this machine's clock is {describe(abs(typical))} {where} those of the devices"
    return ""


def too_many(plans: Mapping[str, Sequence[Verdict]], limit: Share) -> str:
    """Why a person has to look at these plans first; empty when nobody has to.

    Of all versions of these sources so much may be removed as the share says, or one of each source.
    """
    number = sum(not one.stays for verdicts in plans.values() for one in verdicts)
    all_of_them = sum(map(len, plans.values()))
    most = max(len(plans), int(limit * all_of_them))
    if number > most:
        return f"{number:,} of {all_of_them:,} versions would be removed at once, more than the {most:,} of prune_limit"
    return ""


def too_many_of(plans: Mapping[str, Sequence[Verdict]], limit: Share) -> dict[str, str]:
    """The sources of which more than half would be removed, each in words; `limit` may allow more than half."""
    found = {}
    for name, verdicts in plans.items():
        number = sum(not one.stays for one in verdicts)
        if number > max(_FEW, len(verdicts) * max(float(limit), _OF_A_SOURCE)):
            found[name] = f"{number:,} of {len(verdicts):,} versions of {name} would be removed at once"
    return found


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
