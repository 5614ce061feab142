"""What is loaded when it is first used: names of packages, and whole libraries."""

import sys
from collections.abc import Callable, Mapping, Sequence
from importlib import import_module
from importlib.util import find_spec, module_from_spec
from threading import RLock
from types import ModuleType
from typing import Any

__all__ = ["defer", "lazily"]


def lazily(package: str, homes: Mapping[str, Sequence[str]]) -> Callable[[str], Any]:
    """A package's `__getattr__` (PEP 562): `homes` are its modules, each with the names that it is asked for.

    A command that only reads versions then does not load what collecting needs. For readers and type checkers the
    package imports the same names below `TYPE_CHECKING`.

        __getattr__ = lazily(__name__, {"planning": ["plan"]})
    """
    modules = {name: module for module, names in homes.items() for name in names}

    def load(name: str) -> Any:
        if name not in modules:
            raise AttributeError(f"module {package} has no attribute {name}")
        found = getattr(import_module(f"{package}.{modules[name]}"), name)
        setattr(sys.modules[package], name, found)
        return found

    return load


# Of all deferred libraries, as one that is whole has nothing of its class any more.
_TURN = RLock()
_LOADING: set[str] = set()


class _Deferred(ModuleType):
    """A library of which nothing but its name and place is there, until something of it is asked for.

    `importlib.util.LazyLoader` would load it at the next import already, as that asks for `__spec__`.
    """

    def __getattr__(self, name: str) -> Any:
        """What is not there yet: load it all. Other threads wait for it; what that asks of itself is not there yet."""
        with _TURN:
            spec, own = self.__spec__, self.__name__
            if own in _LOADING:
                raise AttributeError(f"module {own!r} has no attribute {name!r}")
            if type(self) is _Deferred and spec is not None and spec.loader is not None:
                _LOADING.add(own)
                try:
                    spec.loader.exec_module(self)
                finally:
                    _LOADING.discard(own)
                self.__class__ = ModuleType  # type: ignore[assignment]
        return getattr(self, name)


def defer(*libraries: str) -> None:
    """Let these be loaded when something of them is first used, whoever imports them, at the beginning of a program."""
    for name in libraries:
        spec = find_spec(name) if name not in sys.modules else None
        if spec is not None:
            module = module_from_spec(spec)
            module.__class__ = _Deferred
            sys.modules[name] = module
