"""What may go: first the plan, then the pruning."""

from typing import TYPE_CHECKING

from historon.base.lazily import lazily

if TYPE_CHECKING:
    from historon.retention.automatic import PrunedByItself, prune_by_itself
    from historon.retention.doubts import clock_doubt, note_retention, shortened, too_many, too_many_of
    from historon.retention.planning import plan, plans_of
    from historon.retention.pruning import Pruned, prune
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
        "planning": ["plan", "plans_of"],
        "pruning": ["Pruned", "prune"],
        "doubts": ["clock_doubt", "note_retention", "shortened", "too_many", "too_many_of"],
        "verdicts": ["Verdict"],
    },
)
