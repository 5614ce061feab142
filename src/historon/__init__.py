"""Historon collects configuration exports, keeps every version, and says what changed.

    import historon

    with historon.open("estate") as estate:
        for version in estate.source("edge-1").versions():
            print(version.number, version.at, version.state)

`open` is `historon.api.open_estate`; docs/library.md shows the rest.
"""

from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from historon.api import Copy, Estate, Round, Source, Version
    from historon.api import open_estate as open  # noqa: A004 (of a module it is the word)

__all__ = ["Copy", "Estate", "Round", "Source", "Version", "__version__", "open"]

__version__ = "0.1.0"


def __getattr__(name: str) -> Any:
    """The front door, opened when it is first used: so the version is known without loading all of it (PEP 562)."""
    if name not in __all__:
        raise AttributeError(f"module historon has no attribute {name}")
    from historon import api

    return getattr(api, "open_estate" if name == "open" else name)
