"""Every kind of copy: a module for each says what there is to set.

They are brought up to date by the modules of `historon.copies`.
"""

from collections.abc import Mapping

from historon.estate.copies.copy import Copy
from historon.estate.kinds import kinds_in

__all__ = ["COPIES", "Copy"]

COPIES: Mapping[str, type[Copy]] = kinds_in(__name__, __path__, Copy, "kind")
