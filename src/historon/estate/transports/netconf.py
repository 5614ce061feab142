"""NETCONF over SSH."""

from typing import ClassVar, Literal

from historon.estate.procedures import Procedure
from historon.estate.steps import Clauses

__all__ = ["Editing", "Netconf", "Subtree"]


class Subtree(Clauses, frozen=True, kw_only=True):
    """Which part of a datastore is asked for (RFC 6241 section 6)."""

    filled: ClassVar[tuple[str, ...]] = ("filter",)
    filter: str | None = None


class Editing(Clauses, frozen=True, kw_only=True):
    """How a datastore takes what is put: in the place of what it holds, or merged with it (RFC 6241 section 7.2)."""

    operation: Literal["replace", "merge"] = "replace"


class Netconf(Procedure, frozen=True, kw_only=True):
    """`over = "netconf"`: operations (RFC 6241) over SSH (RFC 6242)."""

    over: ClassVar[str] = "netconf"
    module: ClassVar[str] = "netconf"
    port: ClassVar[int] = 830
    over_ssh: ClassVar[bool] = True
    logs_in_at_once: ClassVar[bool] = True
    asking: ClassVar[type[Clauses] | None] = Subtree
    pulling: ClassVar[type[Clauses] | None] = None
    putting: ClassVar[type[Clauses] | None] = Editing
