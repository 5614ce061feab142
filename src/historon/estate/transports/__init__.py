"""Every transport: a module for each says what is to be known of it before anything is reached.

Sessions are opened by the modules of `collect/transports`.
"""

from collections.abc import Mapping

from historon.estate.kinds import kinds_in
from historon.estate.procedures import Procedure

__all__ = ["TRANSPORTS"]

TRANSPORTS: Mapping[str, type[Procedure]] = kinds_in(__name__, __path__, Procedure, "over")
