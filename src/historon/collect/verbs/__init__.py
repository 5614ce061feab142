"""How each verb of steps is taken: a module for each, or for those that are alike. See docs/collecting.md."""

from collections.abc import Mapping

from historon.collect.taking import Taker
from historon.collect.verbs import asking, awaiting, choosing, keeping, pausing, putting
from historon.estate import Await, Each, Judged, Keep, Pause, Pick, Pull, Put, Step

__all__ = ["TAKERS"]

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
