"""What goes wrong, each kind with its truth: what is then so, and what may and must be said of it.

A fault of one source is a `Spoiled` in the table of its module; one of Historon's surroundings is a `Disturbance`.
"""

import random
from abc import ABC
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import TYPE_CHECKING, ClassVar

from year.sources import Offer, Source
from year.truth import BAD

if TYPE_CHECKING:
    from year.play import Play

__all__ = ["Disturbance", "Spoiled"]


@dataclass(frozen=True)
class Spoiled:
    """A fault of one source, while which it gives what `spoil` makes of its true offer.

    `may` are the outcomes that are then right; what is reported as anything else was not noticed. `nights` says how long it
    lasts, from and to. `event` is the kind of event that must be reported, where that is not the outcome's own.
    """

    kind: str
    fits: Callable[[Source], bool]
    spoil: Callable[[Offer, Source, random.Random], Offer]
    may: frozenset[str] = BAD
    nights: tuple[int, int] = (1, 3)
    event: str = ""


class Disturbance(ABC):
    """A fault of Historon's surroundings, or of itself; `day` is when it begins.

    It is made again for each time; `rng` decides what is left to chance. One that is `deadly` may end the service, one
    that is `mild` may come together with any other. One that is `armed` may come to nothing: then it does not count.
    """

    kind: ClassVar[str]
    nights: ClassVar[int] = 1
    deadly: ClassVar[bool] = False
    mild: ClassVar[bool] = False
    armed: ClassVar[bool] = False

    def __init__(self, day: int, rng: random.Random) -> None:
        self.day = day
        self.rng = rng

    def begin_night(self, play: "Play") -> None:  # noqa: B027 (some have nothing to do then)
        """At each noon that it lasts: what it does, and what is then true of the night."""

    def end(self, play: "Play") -> None:  # noqa: B027 (some have nothing to do then)
        """At the noon after its last night, when all was judged."""

    def stops(self, play: "Play") -> Sequence[tuple[datetime, Callable[[], None]]]:
        """Instants of the night at which it does something, while the service stands still."""
        return ()
