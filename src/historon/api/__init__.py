"""The front door: an opened estate and its nouns. See docs/library.md.

A name is loaded when it is first used (PEP 562), so that a command that only looks does not load what collecting needs.
"""

from typing import TYPE_CHECKING

from historon.base.lazily import lazily

if TYPE_CHECKING:
    from historon.api.comparing import NoChangeError
    from historon.api.copy import Copy, newest_first, statuses_of
    from historon.api.estate import Estate
    from historon.api.opening import find_estate_file, open_estate
    from historon.api.ownership import Ownership
    from historon.api.pruning import PrunePlan
    from historon.api.pushing import Pushed, PushPlan
    from historon.api.results import Board, Changes, Collected, Difference, Found, NoiseFound, Pruning, Required, Side
    from historon.api.round import Round
    from historon.api.source import Source
    from historon.api.version import Version

__all__ = [
    "Board",
    "Changes",
    "Collected",
    "Copy",
    "Difference",
    "Estate",
    "Found",
    "NoChangeError",
    "NoiseFound",
    "Ownership",
    "PrunePlan",
    "Pruning",
    "PushPlan",
    "Pushed",
    "Required",
    "Round",
    "Side",
    "Source",
    "Version",
    "find_estate_file",
    "newest_first",
    "open_estate",
    "statuses_of",
]

__getattr__ = lazily(
    __name__,
    {
        "copy": ["Copy", "newest_first", "statuses_of"],
        "estate": ["Estate"],
        "opening": ["find_estate_file", "open_estate"],
        "ownership": ["Ownership"],
        "pruning": ["PrunePlan"],
        "pushing": ["PushPlan", "Pushed"],
        "results": [
            "Board",
            "Changes",
            "Collected",
            "Difference",
            "Found",
            "NoiseFound",
            "Pruning",
            "Required",
            "Side",
        ],
        "round": ["Round"],
        "comparing": ["NoChangeError"],
        "source": ["Source"],
        "version": ["Version"],
    },
)
