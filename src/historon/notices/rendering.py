"""Texts from Jinja2 templates, shipped or the administrator's own, in a sandbox: a template cannot reach out."""

from collections.abc import Mapping
from functools import lru_cache
from importlib import resources
from typing import TYPE_CHECKING

from historon.base.errors import OutsideError
from historon.base.visible import made_visible
from historon.estate import Estate

if TYPE_CHECKING:
    from jinja2 import Template

__all__ = ["TemplateError", "own_template", "rendered", "shipped_template", "visible"]


class TemplateError(OutsideError):
    """A template cannot be read, or is wrong."""


def visible(text: str, instead: str = "·") -> str:
    """The text on one line, without anything that could act on a screen or forge a line of its own."""
    return made_visible(text, instead=instead)


def shipped_template(name: str) -> str:
    """The template of this name that comes with Historon."""
    return resources.files("historon.notices").joinpath(name).read_text(encoding="utf-8")


def rendered(text: str, values: Mapping[str, object], *, html: bool = False) -> str:
    """What the template makes of the values; in HTML every value is escaped. Raises TemplateError."""
    import jinja2  # imported where it is used: it takes a tenth of a second

    try:
        return _made(text, html=html).render(values)
    except (jinja2.TemplateError, TypeError, ValueError, ArithmeticError, RecursionError) as exc:
        line = getattr(exc, "lineno", None)
        place = f"line {line}: " if line else ""
        raise TemplateError(f"{place}{exc}", hint="correct the template") from exc


@lru_cache(maxsize=32)
def _made(text: str, *, html: bool) -> "Template":
    from jinja2.sandbox import SandboxedEnvironment

    sandbox = SandboxedEnvironment(autoescape=html, trim_blocks=True, lstrip_blocks=True, keep_trailing_newline=True)
    return sandbox.from_string(text)


def own_template(estate: Estate, written: str) -> str:
    """The text of a template that the estate file names. Raises TemplateError."""
    try:
        return estate.path(written).read_text(encoding="utf-8")
    except (OSError, UnicodeError) as exc:
        raise TemplateError(f"{getattr(exc, 'strerror', None) or exc}", hint="check the path") from exc
