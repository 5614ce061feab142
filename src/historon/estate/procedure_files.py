"""Where procedures come from: the estate file, a folder beside it, those that are shipped; one may extend another."""

import tomllib
from collections.abc import Iterator, Mapping
from functools import cache
from importlib import resources
from typing import Any

__all__ = ["joined", "shipped_base", "shipped_names", "shipped_text"]

# An extending procedure adds to these, and replaces everything else.
_TOGETHER = ("noise", "secret", "unordered", "known_by", "values")


def shipped_names() -> list[str]:
    """The procedures that come with Historon, by name."""
    folder = resources.files("historon") / "procedures"
    return sorted(file.name.removesuffix(".toml") for file in folder.iterdir() if file.name.endswith(".toml"))


def shipped_text(name: str) -> str:
    """A shipped procedure as it is written."""
    return (resources.files("historon") / "procedures" / f"{name}.toml").read_text(encoding="utf-8")


@cache
def shipped_base(name: str) -> str | None:
    """The procedure that a shipped one extends; None for none, or where none of this name is shipped."""
    base = tomllib.loads(shipped_text(name)).get("extends") if name in shipped_names() else None
    return base if isinstance(base, str) else None


def joined(written: Mapping[str, Any], wanted: Iterator[str]) -> dict[str, Any]:
    """All written procedures, and the shipped ones that are wanted, each laid over what it extends.

    One that extends what is not there, or itself in a circle, keeps its `extends` as the only thing to complain of.
    """
    shipped = set(shipped_names())
    names = [*written, *(name for name in wanted if name in shipped and name not in written)]
    return {name: _whole(name, written, shipped, ()) for name in names}


def _whole(name: str, written: Mapping[str, Any], shipped: set[str], seen: tuple[str, ...]) -> Any:
    own = written[name] if name in written and (name not in seen) else tomllib.loads(shipped_text(name))
    base = own.get("extends") if isinstance(own, dict) else None
    if not isinstance(base, str):
        return own
    # One that extends a shipped one of its own name means the shipped one.
    if base in seen or (base == name and base not in shipped) or (base not in written and base not in shipped):
        return own
    if base == name:
        below: Any = tomllib.loads(shipped_text(base))
    else:
        below = _whole(base, written, shipped, (*seen, name))
    return _laid_over(below, own) if isinstance(below, dict) else own


def _laid_over(below: Mapping[str, Any], own: Mapping[str, Any]) -> dict[str, Any]:
    made = {**below, **own}
    for key in _TOGETHER:
        lower, upper = below.get(key), own.get(key)
        if isinstance(lower, list) and isinstance(upper, list):
            made[key] = [*lower, *upper]
        elif isinstance(lower, dict) and isinstance(upper, dict):
            made[key] = {**lower, **upper}
    return made
