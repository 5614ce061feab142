"""Whether this machine's clock may be believed: ages mean nothing by a clock that is wrong."""

from datetime import datetime, timedelta
from statistics import median

from historon.estate import describe
from historon.store import SKEW, Store

__all__ = ["clock_doubt"]

_AHEAD = timedelta(days=35)  # after the last round: an estate that is collected at all is collected once a month
_BEHIND = timedelta(days=1)
_SKEWED = timedelta(days=1)


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
