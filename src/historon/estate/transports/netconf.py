"""NETCONF over SSH."""

from typing import ClassVar

from historon.estate.procedures import Procedure
from historon.estate.steps import Clauses

__all__ = ["Netconf", "Subtree"]


class Subtree(Clauses, frozen=True, kw_only=True):
    """Which part of a datastore is asked for (RFC 6241 section 6)."""

    filled: ClassVar[tuple[str, ...]] = ("filter",)
    filter: str | None = None


class Netconf(Procedure, frozen=True, kw_only=True):
    """`over = "netconf"`: operations (RFC 6241) over SSH (RFC 6242)."""

    over: ClassVar[str] = "netconf"
    module: ClassVar[str] = "netconf"
    port: ClassVar[int] = 830
    over_ssh: ClassVar[bool] = True
    logs_in_at_once: ClassVar[bool] = True
    asking: ClassVar[type[Clauses] | None] = Subtree
    pulling: ClassVar[type[Clauses] | None] = None
