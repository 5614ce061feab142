"""What comes in several kinds: a module for each, which says what there is to set and does what there is to do.

Their packages stand further up than this one, as what they do needs what stands between. So no module here imports one
of them: a kind is looked up by its name when an estate file asks for it.
"""

import importlib
import pkgutil
import sys
from collections.abc import Iterator, Mapping
from functools import cached_property
from typing import Any, Generic, TypeVar

from historon.estate.channels import Channel
from historon.estate.copies import Copy
from historon.estate.procedures import Procedure
from historon.estate.steps import Step

__all__ = ["CHANNELS", "COPIES", "MORE_VERBS", "TRANSPORTS", "Kinds", "module_of"]

T = TypeVar("T")


class Kinds(Mapping[str, type[T]], Generic[T]):
    """The kinds that a package has, by their names: classes that are a `base`, and say their name as `naming`.

    A kind's module is called as the kind is, with `_` for `-`. It is imported when its kind is asked for, so none may
    import at once what takes long; to go through all kinds imports all of them.
    """

    def __init__(self, package: str, base: type[T], naming: str) -> None:
        self._package = package
        self._base = base
        self._naming = naming

    @cached_property
    def _modules(self) -> list[str]:
        package = importlib.import_module(self._package)
        return [found.name for found in pkgutil.iter_modules(package.__path__)]

    def _found_in(self, module: str) -> dict[str, type[T]]:
        loaded = importlib.import_module(f"{self._package}.{module}")
        own = [one for one in vars(loaded).values() if isinstance(one, type) and one.__module__ == loaded.__name__]
        kinds = [one for one in own if issubclass(one, self._base)]
        named = [(vars(kind).get(self._naming), kind) for kind in kinds]
        return {name: kind for name, kind in named if name}

    def __getitem__(self, name: str) -> type[T]:
        module = name.replace("-", "_")
        if module not in self._modules:
            raise KeyError(name)
        return self._found_in(module)[name]

    def __iter__(self) -> Iterator[str]:
        for module in self._modules:
            yield from self._found_in(module)

    def __len__(self) -> int:
        return len(list(iter(self)))


def module_of(one: object) -> Any:
    """The module of a kind, by one of its class: it has the functions that the kind's interface asks for."""
    return sys.modules[type(one).__module__]


TRANSPORTS: Kinds[Procedure] = Kinds("historon.collect.transports", Procedure, "over")
CHANNELS: Kinds[Channel] = Kinds("historon.notices.channels", Channel, "kind")
COPIES: Kinds[Copy] = Kinds("historon.copies", Copy, "kind")
MORE_VERBS: Kinds[Step] = Kinds("historon.collect.verbs", Step, "verb")  # beside those of estate.steps
