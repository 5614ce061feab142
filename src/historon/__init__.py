"""Historon collects configuration exports, keeps every version, and says what changed.

    import historon

    with historon.open("estate") as estate:
        for version in estate.versions("edge-1"):
            print(version.number, version.at, version.state)

`open` is `historon.api.open_estate`; docs/library.md shows the rest.
"""

from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from historon.api import Historon
    from historon.api import open_estate as open  # noqa: A004 (of a module it is the word)

__all__ = ["Historon", "__version__", "open"]

__version__ = "0.1.0"


def __getattr__(name: str) -> Any:
    """The front door, opened when somebody comes: so the version is known without loading all of it (PEP 562)."""
    if name not in ("Historon", "open"):
        raise AttributeError(f"module historon has no attribute {name}")
    from historon import api

    return api.Historon if name == "Historon" else api.open_estate
