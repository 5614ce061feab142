"""What is to be reported of a source, as docs/notices.md has it: when its state changes, and again at growing intervals."""

from collections.abc import Collection, Iterator, Sequence
from dataclasses import dataclass, field
from datetime import datetime, timedelta
from itertools import pairwise
from typing import Any

from year.ledger import Visit

__all__ = ["Known"]

_DAY = timedelta(days=1)
_TROUBLE = {"failing", "suspect", "identity-changed", "not-resumed"}
_OWN = _TROUBLE | {"still-failing", "still-suspect", "flapping", "recovered"}
_KINDS = {"failed": "failing", "suspect": "suspect"}
_REMEMBERED = 8


@dataclass
class Known:
    """What people know of one source, and what they must learn next."""

    state: str = ""  # as reported: a kind of event, empty for well
    recent: list[str] = field(default_factory=list)
    flapping: bool = False
    told: int = 0
    untold: Visit | None = None  # of which nothing was reported before the program was killed
    last: datetime | None = None

    def judge(
        self, visits: Sequence[Visit], events: Sequence[dict[str, Any]], event: str, *, killed: Collection[str]
    ) -> Iterator[tuple[str, str]]:
        """What is wrong with what was reported of these visits, as mistake and words.

        What was found just before a round of one of these triggers was killed may be reported after the next visit
        (docs/reliability.md).
        """
        left = [dict(one, at=datetime.fromisoformat(one["at"])) for one in events]
        if self.untold is not None:
            self._told_late([one["kind"] for one in left if not visits or one["at"] < visits[0].at])
        for number, visit in enumerate(visits):
            if visit.outcome == "skipped":
                continue
            until = visits[number + 1].at if number + 1 < len(visits) else None
            mine = [one for one in left if one["at"] >= visit.at and (until is None or one["at"] < until)]
            kinds = [one["kind"] for one in mine]
            if _OWN & set(kinds) or visit.trigger not in killed:
                yield from self._visited(visit, kinds, event)
            else:
                self.untold = visit
                self.recent = [*self.recent, "a" if visit.outcome in _KINDS else "w"][-_REMEMBERED:]
        if not visits and (strange := [one["kind"] for one in left if one["kind"] in _TROUBLE | {"recovered"}]):
            yield "false alarm", f"{strange} without a visit"

    def _told_late(self, kinds: Sequence[str]) -> None:
        """What was reported of a visit after which the program was killed."""
        assert self.untold is not None
        at, self.untold = self.untold.at, None
        if "flapping" in kinds:
            self.flapping = True
        for kind in kinds:
            if kind in _TROUBLE | {"recovered"}:
                self.recent = self.recent[-1:] if self.flapping else self.recent
                self.flapping = False  # it was steady for long enough
                self._is(kind if kind in _TROUBLE else "", at)
            elif kind.startswith("still-"):
                self.told, self.last = self.told + 1, at

    def _visited(self, visit: Visit, kinds: Sequence[str], event: str) -> Iterator[tuple[str, str]]:
        state = (event or _KINDS[visit.outcome]) if visit.outcome in _KINDS else ""
        grave = state in ("identity-changed", "not-resumed")
        if not grave:
            self.recent = [*self.recent, "a" if state else "w"][-_REMEMBERED:]
        flips = sum(one != other for one, other in pairwise(self.recent))
        if self.flapping and not grave:
            steady = {state} if state else {"recovered"}
            if steady & set(kinds):
                self.flapping, self.recent = False, self.recent[-1:]
                self._is(state, visit.at)
            elif len(self.recent) > 4 and len(set(self.recent[-5:])) == 1:
                yield from self._must(steady, kinds)
            return
        # One visit more or less, as a death between a visit and its word is allowed.
        if not grave and ("flapping" in kinds if flips >= 2 else flips > 5):
            self.flapping = True
            yield from self._must({"flapping"}, kinds)
            self._is(state, visit.at)
            return
        yield from self._steady(state, visit.at, kinds)

    def _steady(self, state: str, at: datetime, kinds: Sequence[str]) -> Iterator[tuple[str, str]]:
        """What must be reported where nothing flaps."""
        if state and state != self.state:
            yield from self._must({state}, kinds)
            self._is(state, at)
        elif state:
            yield from self._again(at, kinds)
        elif self.state:
            yield from self._must({"recovered"}, kinds)
            self._is("", at)
        elif "recovered" in kinds and _TROUBLE & set(kinds):
            return  # of several exports one was amiss, and the last one well
        elif strange := set(kinds) & _OWN:
            yield "false alarm", f"{strange} of a source that is well"

    def _is(self, state: str, at: datetime) -> None:
        self.state, self.told, self.last = state, 1, at

    def _again(self, at: datetime, kinds: Sequence[str]) -> Iterator[tuple[str, str]]:
        """After a day, two more, four more, up to thirty."""
        assert self.last is not None
        wait = min(_DAY * 2 ** (self.told - 1), 30 * _DAY)
        told = any(kind.startswith("still-") or kind in _TROUBLE for kind in kinds)
        if told and at - self.last < wait * 0.75:
            yield "double notice", f"told again after {at - self.last}"
        if not told and at - self.last > wait + _DAY:
            yield "late", f"not told again since {at - self.last}"
        if told:
            self.told, self.last = self.told + 1, at

    @staticmethod
    def _must(wanted: set[str], kinds: Sequence[str]) -> Iterator[tuple[str, str]]:
        if not wanted & set(kinds):
            yield "missing notice", f"{' or '.join(sorted(wanted))} was to be told, and {list(kinds) or 'nothing'} was"
