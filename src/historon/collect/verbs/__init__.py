"""How each verb of steps is taken: a module for each, or for those that are alike. See docs/collecting.md.

A module may bring its verb along: the class of its steps, beside `take`.
"""

from collections.abc import Mapping

from historon.collect.taking import Taker
from historon.collect.verbs import asking, awaiting, choosing, keeping, pausing, putting
from historon.estate import Await, Each, Judged, Keep, Pause, Pick, Pull, Put, Step, module_of

__all__ = ["TAKERS", "taker_of"]

# A step is taken as the nearest of its classes says.
TAKERS: Mapping[type[Step], Taker] = {
    Await: awaiting.take,
    Each: choosing.repeat,
    Judged: asking.take,
    Keep: keeping.take,
    Pause: pausing.take,
    Pick: choosing.pick,
    Pull: keeping.take,
    Put: putting.take,
}


def taker_of(step: Step) -> Taker:
    """How a step is taken."""
    own = module_of(step)
    if own.__name__.startswith(f"{__name__}."):
        taker: Taker = own.take
        return taker
    return next(TAKERS[kind] for kind in type(step).__mro__ if kind in TAKERS)
