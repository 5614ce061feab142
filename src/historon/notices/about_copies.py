"""What is reported of a copy: that it and the store contradict each other, that it is damaged, that it is behind."""

from datetime import datetime, timedelta
from typing import TYPE_CHECKING

from msgspec.structs import replace

from historon.estate import describe
from historon.notices.events import Event
from historon.notices.notifier import Monitored
from historon.store import ESTATE

if TYPE_CHECKING:
    from historon.copies import CopyStatus

__all__ = ["about_copy"]

_SHOWN = 10  # damages in a notice


def about_copy(copy: "CopyStatus", now: datetime, trouble: str = "") -> Monitored:
    """How a copy is, the gravest first; `trouble` is what became of the last try to bring it up to date."""
    state = {"refused": "copy-refused", "damaged": "copy-damaged", "different": "copy-damaged"}.get(copy.state, "")
    if not state and copy.overdue(now):
        state = "copy-behind"

    def make(kind: str) -> Event:
        look = f"historon copies {copy.name} --update"
        if kind == "copy-well":
            return Event(kind, now, f"{copy.name} has all versions")
        if kind == "copy-refused":
            advice = "find out which one is right first: historon copies --compare"
            return Event(kind, now, copy.refused, advice=advice, look="historon copies --compare")
        if kind == "copy-damaged":
            told = tuple(str(one) for one in copy.damages[:_SHOWN])
            what = "difference" if copy.differs else "damage"
            number = f"{copy.damaged} {what}{'s' * (copy.damaged != 1)}"
            return Event(kind, now, f"{copy.name}: verifying found {number}", look=look, excerpt=told)
        age = f"{copy.name} has been incomplete for {describe(copy.behind(now) or timedelta())}"
        last = (f"last try: {trouble}",) if trouble else ()
        return Event(kind, now, f"{age}, max_lag is {copy.copy.max_lag}", look=look, details=last)

    return Monitored(ESTATE, state, "copy-well", lambda kind: replace(make(kind), subject=copy.name))
