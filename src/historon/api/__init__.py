"""The front door: what every command does, as functions of an estate that is open. See docs/library.md."""

from historon.api.front import Historon
from historon.api.opening import find_estate_file, open_estate
from historon.api.pushing import Pushed, PushPlan
from historon.api.results import Board, Changes, Collected, Difference, Found, NoiseFound, Required, Side

__all__ = [
    "Board",
    "Changes",
    "Collected",
    "Difference",
    "Found",
    "Historon",
    "NoiseFound",
    "PushPlan",
    "Pushed",
    "Required",
    "Side",
    "find_estate_file",
    "open_estate",
]
