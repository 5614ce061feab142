"""Finding what comes in several kinds: a package with a module for each, of which nothing else keeps a list."""

import importlib
import pkgutil
from collections.abc import Iterable, Mapping
from typing import TypeVar

__all__ = ["kinds_in"]

T = TypeVar("T")


def kinds_in(package: str, folders: Iterable[str], base: type[T], name: str) -> Mapping[str, type[T]]:
    """The classes of a package's modules that are a `base` and have a name of their own, by that name.

    `folders` are where the package's modules lie; `name` is the attribute of a class that says its name.
    """
    modules = [importlib.import_module(f"{package}.{found.name}") for found in pkgutil.iter_modules(folders)]
    defined = [one for module in modules for one in vars(module).values() if isinstance(one, type)]
    return {vars(one)[name]: one for one in defined if issubclass(one, base) and vars(one).get(name)}
