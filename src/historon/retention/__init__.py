"""What may go: first the plan, then the pruning."""

from typing import TYPE_CHECKING

from historon.base.lazily import lazily

if TYPE_CHECKING:
    from historon.retention.automatic import PrunedByItself, prune_by_itself
    from historon.retention.clock import clock_doubt
    from historon.retention.limits import too_many, too_many_of
    from historon.retention.planning import plan, plans_of
    from historon.retention.pruning import Pruned, prune
    from historon.retention.shortening import note_retention, shortened
    from historon.retention.verdicts import Verdict

__all__ = [
    "Pruned",
    "PrunedByItself",
    "Verdict",
    "clock_doubt",
    "note_retention",
    "plan",
    "plans_of",
    "prune",
    "prune_by_itself",
    "shortened",
    "too_many",
    "too_many_of",
]

__getattr__ = lazily(
    __name__,
    {
        "automatic": ["PrunedByItself", "prune_by_itself"],
        "clock": ["clock_doubt"],
        "limits": ["too_many", "too_many_of"],
        "planning": ["plan", "plans_of"],
        "pruning": ["Pruned", "prune"],
        "shortening": ["note_retention", "shortened"],
        "verdicts": ["Verdict"],
    },
)
