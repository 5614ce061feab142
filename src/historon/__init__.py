"""Historon collects configuration exports, keeps every version, and says what changed.

    import historon

    with historon.open("estate") as estate:
        for version in estate.source("edge-1").versions():
            print(version.number, version.at, version.state)

docs/library.md shows the rest.
"""

from typing import TYPE_CHECKING, Any

from historon.base.lazily import lazily

if TYPE_CHECKING:
    from historon.api import Copy, Estate, Round, Source, Version
    from historon.api import open_estate as open  # noqa: A004 (of a module it is the word)
    from historon.base.errors import HistoronError, OutsideError, StoreError, UsageError
    from historon.estate import EstateError

__all__ = [
    "Copy",
    "Estate",
    "EstateError",
    "HistoronError",
    "OutsideError",
    "Round",
    "Source",
    "StoreError",
    "UsageError",
    "Version",
    "__version__",
    "open",
]

__version__ = "0.2.0"

_load = lazily(
    __name__,
    {
        "api": ["Copy", "Estate", "Round", "Source", "Version", "open_estate"],
        "base.errors": ["HistoronError", "OutsideError", "StoreError", "UsageError"],
        "estate": ["EstateError"],
    },
)


def __getattr__(name: str) -> Any:
    """The front door, opened when it is first used: so the version is known without loading all of it (PEP 562)."""
    return _load("open_estate" if name == "open" else name)
