"""Public faces of packages of which each name is loaded when it is first used."""

import sys
from collections.abc import Callable, Mapping, Sequence
from importlib import import_module
from typing import Any

__all__ = ["lazily"]


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
