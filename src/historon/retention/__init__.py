"""What may go: first the plan, then the pruning."""

from historon.retention.clock import clock_doubt
from historon.retention.planning import Verdict, plan
from historon.retention.pruning import Pruned, prune

__all__ = ["Pruned", "Verdict", "clock_doubt", "plan", "prune"]
