"""Programs and files of this machine."""

from collections.abc import Mapping
from typing import ClassVar

from historon.estate.procedures import Procedure
from historon.estate.steps import Clauses, walk
from historon.estate.transports.files import Choosing

__all__ = ["Local", "Running"]


class Running(Clauses, frozen=True, kw_only=True):
    """What a program is given as variables of its environment."""

    environment: dict[str, str] = {}

    @property
    def variables(self) -> Mapping[str, str]:
        """See Clauses."""
        return self.environment


class Local(Procedure, frozen=True, kw_only=True):
    """`over = "local"`: programs, without a shell, and files."""

    over: ClassVar[str] = "local"
    module: ClassVar[str] = "local"
    on_network: ClassVar[bool] = False
    as_list: ClassVar[bool] = True
    asking: ClassVar[type[Clauses] | None] = Running
    pulling: ClassVar[type[Clauses] | None] = Choosing
    putting: ClassVar[type[Clauses] | None] = Clauses

    @property
    def programs(self) -> set[str]:
        """See Procedure."""
        steps = (*self.steps, *self.push, *self.push_confirm)
        return {said[0] for _, step in walk(steps) for said in step.sayings if said}
