"""What retention would remove, as a plan that is carried out or not; and what was removed."""

from collections import Counter
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from datetime import UTC, datetime
from typing import TYPE_CHECKING

from historon.api.context import Opened, Where
from historon.api.results import Pruning
from historon.base.errors import UsageError
from historon.estate import nearest
from historon.store import RENAMED, RETIRED, Removed, Store

if TYPE_CHECKING:
    from historon.retention import Pruned, Verdict

__all__ = ["PrunePlan", "plan_prune", "pruned_versions", "prunings"]


@dataclass(frozen=True)
class PrunePlan:
    """By source, the verdict on each version: whether it stays, and the rule that keeps or removes it.

    Sources that keep everything are not in it. A `preview` (of another retention or instant) cannot be carried out.
    """

    by_source: "Mapping[str, Sequence[Verdict]]"
    opened: Opened = field(repr=False, compare=False)
    preview: bool = False

    @property
    def verdicts(self) -> "list[Verdict]":
        """All verdicts, source by source."""
        return [verdict for plan in self.by_source.values() for verdict in plan]

    @property
    def removals(self) -> "list[Verdict]":
        """The verdicts on the versions that would be removed."""
        return [verdict for verdict in self.verdicts if not verdict.stays]

    def clock_doubt(self) -> str:
        """The reason why this machine's clock may be wrong, so that nothing should be removed; empty for none."""
        from historon.retention import clock_doubt

        return clock_doubt(self.opened.store, self.opened.clock())

    def too_many(self) -> str:
        """The reason why a person should check the plan first, such as more than `prune_limit`; empty for none."""
        from historon.retention import shortened, too_many, too_many_of

        described = self.opened.described
        limit = described.settings.prune_limit
        losing = [name for name, plan in self.by_source.items() if not all(one.stays for one in plan)]
        each = {**too_many_of(self.by_source, limit), **shortened(described, self.opened.store, losing)}
        return too_many(self.by_source, limit) or next(iter(each.values()), "")

    def prune(self) -> "Pruned":
        """Remove these versions. A source's last good version and held versions always stay.

        Raises UsageError for a preview, StoreError where the store belongs to another estate or is in trouble.

        Example: `estate.plan_prune("edge-1").prune().versions`
        """
        from historon.retention import note_retention, prune

        if self.preview:
            raise UsageError("a preview removes nothing", hint="plan again without another retention or instant")
        done = prune(self.opened.to_write(), self.verdicts, self.opened.clock())
        note_retention(self.opened.described, self.opened.store, self.by_source)
        return done


def plan_prune(
    opened: Opened, names: Sequence[str], where: Where, retention: str | None, as_of: datetime | None
) -> PrunePlan:
    """See Estate.plan_prune."""
    from historon.retention import plans_of

    described = opened.described
    if retention is not None and retention not in described.retention:
        hint = nearest(retention, described.retention) or "add one to [retention] in the estate file"
        raise UsageError(f'there is no retention "{retention}"', hint=hint)
    sources = opened.select(*names, where=where)
    moment = opened.clock() if as_of is None else opened.moment(as_of)
    plans = plans_of(described, sources, opened.store, moment, retention)
    return PrunePlan(plans, opened, preview=retention is not None or as_of is not None)


def pruned_versions(opened: Opened, names: Sequence[str], where: Where, began: datetime | None) -> int:
    """The number of versions, made since then, that were removed; see Estate.pruned_versions."""
    store = opened.store
    chosen = {one.name for one in opened.select(where=where)} if where else store.states().keys()
    renamed = {name for name, why in store.recall_all(RETIRED).items() if why.startswith(RENAMED)}
    removed = [one for name in {*(names or chosen)} - renamed for one in store.removed(name)]
    return sum(began is None or one.at is None or one.at >= began for one in removed)


def prunings(store: Store, sources: Sequence[str] | None) -> list[Pruning]:
    """What was removed, newest first: each time once."""
    found: dict[tuple[datetime | None, int | None], list[Removed]] = {}
    for source in sources if sources is not None else store.states():
        for one in store.removed(source):
            found.setdefault((one.gone, one.round), []).append(one)
    earliest = datetime.min.replace(tzinfo=UTC)
    made = [
        Pruning(
            at,
            round_number,
            tuple(sorted({one.rule or "" for one in removed} - {""})),
            dict(sorted(Counter(one.source for one in removed).items())),
        )
        for (at, round_number), removed in found.items()
    ]
    return sorted(made, key=lambda one: one.at or earliest, reverse=True)
