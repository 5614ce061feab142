"""What may go: first the plan, then the pruning."""

from historon.retention.automatic import PrunedByItself, prune_by_itself
from historon.retention.clock import clock_doubt
from historon.retention.limits import too_many, too_many_of
from historon.retention.planning import plan, plans_of
from historon.retention.pruning import Pruned, prune
from historon.retention.shortened import note_retention, shortened
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
